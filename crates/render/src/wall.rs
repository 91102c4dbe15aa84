//! What hides what lies behind it.

use crate::Mesh;
use fennik_core::scene::anim::Animated;

/// A flat thing in the world that hides what lies behind it and is not seen itself: the plate shows there.
#[derive(Debug, Clone)]
pub struct Wall {
    /// In the world of the datum.
    pub mesh: Mesh,
    /// How much of what lies behind is hidden, 0 to 1.
    pub strength: Animated<f64>,
    /// First and last frame on which it hides; all where there is none.
    pub span: Option<(u32, u32)>,
}

impl Wall {
    /// How much it hides at a time, frames.
    pub(crate) fn hides(&self, frame: f64) -> f32 {
        let shown = self.span.is_none_or(|(first, last)| (f64::from(first)..=f64::from(last)).contains(&frame.round()));
        if shown { self.strength.at(frame).clamp(0.0, 1.0) as f32 } else { 0.0 }
    }

    /// Whether it hides more at one time than at another.
    pub(crate) fn changes(&self) -> bool {
        self.span.is_some() || self.strength.changes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample::letters;
    use crate::{NoAssets, Quality, RenderScene, ShapeCache, composite};
    use fennik_core::camera::Camera;
    use fennik_core::geometry::{Lens, Pose};
    use fennik_core::scene::anim::{Curve, Ease, Key};
    use fennik_core::scene::{Light, LightNow};
    use nalgebra::Vector3;

    /// A letter behind a board that hides it, as seen on a frame; the sum of what it changes on a grey plate.
    fn changed(board: Option<Wall>, frame: u32, quality: Quality) -> f64 {
        let letter = letters("I", [250; 3]);
        let light: Light = LightNow { floor_shadow: 0.0, ambient: 1.0, sun: 0.0, ..LightNow::default() }.into();
        let scene = RenderScene::build(&[letter], &light, &ShapeCache::default(), &NoAssets::shared()).unwrap();
        let scene = scene.behind(board.into_iter().collect());
        let pose = Pose::look_at(Vector3::new(0.0, 0.5, 5.0), Vector3::new(0.0, 0.5, 0.0), Vector3::y()).unwrap();
        let mut camera = Camera::new(pose, Lens::centred(150.0, 160, 90), 90);
        camera.frame = frame;
        let mut rgb = vec![0u8; 160 * 90 * 3];
        composite(&mut rgb, 160, 90, &camera, &scene, quality, 0.0).unwrap();
        rgb.iter().map(|b| fennik_core::colour::decode(f32::from(*b) / 255.0)).map(f64::from).sum()
    }

    fn board(strength: Animated<f64>, span: Option<(u32, u32)>) -> Wall {
        let positions = [[-2.0, -1.0], [2.0, -1.0], [2.0, 2.0], [-2.0, 2.0]].map(|[x, y]| Vector3::new(x, y, 1.0));
        let mesh = Mesh { positions: positions.into(), indices: vec![[0, 1, 2], [0, 2, 3]], ..Mesh::default() };
        Wall { mesh, strength, span }
    }

    #[test]
    fn it_hides_as_much_as_its_strength_says_and_only_while_it_counts() {
        for quality in [Quality::Draft, Quality::Exact] {
            let all = changed(None, 4, quality);
            let left = |wall: Wall, frame: u32| changed(Some(wall), frame, quality) / all;
            assert!(all > 100.0);
            assert_eq!(left(board(1.0.into(), None), 4), 0.0);
            assert_eq!(left(board(0.0.into(), None), 4), 1.0);
            let quarter = left(board(0.75.into(), None), 4);
            assert!((quarter - 0.25).abs() < 0.01, "{quarter}");
            assert_eq!([3, 4, 5, 6].map(|f| left(board(1.0.into(), Some((4, 5))), f)), [1.0, 0.0, 0.0, 1.0]);
            let keys = vec![Key { ease: Ease::Linear, ..Key::smooth(0.0, 0.0) }, Key::smooth(8.0, 1.0)];
            let grows = board(Animated::Curve(Curve::new(keys).unwrap()), None);
            let [early, late] = [2, 6].map(|f| left(grows.clone(), f));
            assert!((early - 0.75).abs() < 0.01 && (late - 0.25).abs() < 0.01, "{early} {late}");
        }
    }
}
