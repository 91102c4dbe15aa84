//! Rays of pixels.

use fennik_core::camera::Camera;
use nalgebra::{Vector2, Vector3};

/// Rays of pixels, from what is the same for all of them where all rows are exposed at once. The lens is undone at the
/// nodes of a grid, between which it bends by less than a thousandth of a pixel.
pub(super) struct Sight<'a> {
    pub camera: &'a Camera,
    from: Vector3<f64>,
    /// Directions at the nodes, row by row, as far as a unit of depth: world.
    nodes: Vec<Vector3<f64>>,
    across: usize,
}

/// Between the nodes of the grid on which the lens is undone, px.
const NODE_PX: f64 = 12.0;

impl<'a> Sight<'a> {
    pub fn new(camera: &'a Camera, [width, height]: [usize; 2]) -> Self {
        let pose = camera.pose();
        let to_world = pose.rotation.inverse();
        // One more node on each side than the picture has.
        let count = |v: usize| (v as f64 / NODE_PX).ceil() as usize + 3;
        let (across, down) = (count(width), count(height));
        let node = |i: usize| {
            let (x, y) = ((i % across) as f64 - 1.0, (i / across) as f64 - 1.0);
            let n = camera.lens.unproject(Vector2::new(x, y) * NODE_PX);
            to_world * Vector3::new(n.x, n.y, 1.0)
        };
        let nodes = if camera.is_rolling() { Vec::new() } else { (0..across * down).map(node).collect() };
        Self { camera, from: pose.centre(), nodes, across }
    }

    /// Direction as far as a unit of depth; `None` beyond the grid.
    fn direction(&self, x: f64, y: f64) -> Option<Vector3<f64>> {
        let (u, v) = (x / NODE_PX + 1.0, y / NODE_PX + 1.0);
        if !(u >= 0.0 && v >= 0.0) {
            return None;
        }
        let (i, j) = (u as usize, v as usize);
        if i + 1 >= self.across {
            return None;
        }
        let at = j * self.across + i;
        let [a, b] = self.nodes.get(at..at + 2)? else { return None };
        let [c, d] = self.nodes.get(at + self.across..at + self.across + 2)? else { return None };
        let (s, t) = (u - i as f64, v - j as f64);
        let (top, bottom) = (a + (b - a) * s, c + (d - c) * s);
        Some(top + (bottom - top) * t)
    }

    /// Where the ray of a place of the picture begins, and its unit direction: world.
    pub fn ray(&self, x: f64, y: f64) -> (Vector3<f64>, Vector3<f64>) {
        match self.direction(x, y) {
            Some(along) => (self.from, along.normalize()),
            None => {
                let ray = self.camera.ray(Vector2::new(x, y));
                (ray.from, ray.along)
            }
        }
    }
}
