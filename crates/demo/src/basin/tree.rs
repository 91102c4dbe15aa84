//! Rays against triangles.

use super::soup::{Soup, Triangle, V};
use obvhs::BvhBuildParams;
use obvhs::aabb::Aabb;
use obvhs::cwbvh::CwBvh;
use obvhs::cwbvh::builder::build_cwbvh;
use obvhs::ray::{Ray, RayHit};
use std::time::Duration;

/// Triangles under a tree of boxes.
pub(super) struct Tree {
    tree: Option<CwBvh>,
    /// In the order of the tree's leaves.
    triangles: Vec<Triangle>,
    /// Their corners alone, close together.
    corners: Vec<[V; 3]>,
}

/// Where a ray meets a triangle.
pub(super) struct Hit<'a> {
    pub distance: f32,
    pub triangle: &'a Triangle,
    /// Weights of the second and the third corner.
    pub weights: [f32; 2],
}

fn vec(v: V) -> glam::Vec3A {
    glam::Vec3A::new(v.x, v.y, v.z)
}

/// Distance and the weights of the second and third corner (Moeller & Trumbore, "Fast, minimum storage ray-triangle
/// intersection", 1997), both sides.
fn cross(t: &[V; 3], from: V, ray: V) -> Option<(f32, [f32; 2])> {
    let (ab, ac) = (t[1] - t[0], t[2] - t[0]);
    let p = ray.cross(&ac);
    let det = ab.dot(&p);
    if det == 0.0 {
        return None;
    }
    let s = from - t[0];
    let inverse = 1.0 / det;
    let u = s.dot(&p) * inverse;
    if !(0.0..=1.0).contains(&u) {
        return None;
    }
    let q = s.cross(&ab);
    let v = ray.dot(&q) * inverse;
    let distance = ac.dot(&q) * inverse;
    (v >= 0.0 && u + v <= 1.0 && distance > 1e-4).then_some((distance, [u, v]))
}

impl Tree {
    pub fn new(soup: Soup) -> Self {
        let boxes: Vec<Aabb> = soup.triangles.iter().map(|t| Aabb::from_points(&t.at.map(vec))).collect();
        if boxes.is_empty() {
            return Self { tree: None, triangles: Vec::new(), corners: Vec::new() };
        }
        let tree = build_cwbvh(&boxes, BvhBuildParams::medium_build(), &mut Duration::default());
        let triangles: Vec<Triangle> = tree.primitive_indices.iter().map(|i| soup.triangles[*i as usize]).collect();
        let corners = triangles.iter().map(|t| t.at).collect();
        Self { tree: Some(tree), triangles, corners }
    }

    /// The nearest triangle along a ray within a distance.
    pub fn meet(&self, from: V, ray: V, within: f32) -> Option<Hit<'_>> {
        let tree = self.tree.as_ref()?;
        let mut hit = RayHit::none();
        tree.ray_traverse(Ray::new(vec(from), vec(ray), 1e-4, within), &mut hit, |r, id| {
            cross(&self.corners[id], from, ray)
                .map_or(f32::INFINITY, |(d, _)| if d < r.tmax { d } else { f32::INFINITY })
        });
        if !(hit.t < within) {
            return None;
        }
        let triangle = self.triangles.get(hit.primitive_id as usize)?;
        let (distance, weights) = cross(&triangle.at, from, ray)?;
        Some(Hit { distance, triangle, weights })
    }

    /// How much light passes along a ray: nothing past what is solid, some through cloth and leaves.
    pub fn passes(&self, from: V, ray: V, within: f32, thin: impl Fn(&Triangle) -> f32) -> f32 {
        let Some(tree) = &self.tree else { return 1.0 };
        let mut light = 1.0f32;
        let mut hit = RayHit::none();
        tree.ray_traverse(Ray::new(vec(from), vec(ray), 1e-4, within), &mut hit, |_, id| {
            if let Some((d, _)) = cross(&self.corners[id], from, ray) {
                if d < within {
                    light *= thin(&self.triangles[id]);
                    if light < 0.02 {
                        light = 0.0;
                        return d;
                    }
                }
            }
            f32::INFINITY
        });
        light
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::basin::green::Chance;
    use crate::basin::skin::Skin;

    #[test]
    fn the_tree_meets_what_a_search_of_all_triangles_meets() {
        let mut by = Chance(3);
        let mut soup = Soup::default();
        for _ in 0..400 {
            let at = V::new(by.around(5.0), by.around(5.0), by.around(5.0));
            let off = V::new(by.around(1.0), by.around(1.0), by.around(1.0));
            let side = V::new(by.around(1.0), by.around(1.0), by.around(1.0));
            soup.quad([at, at + off, at + side, at + side], Skin::Concrete);
            soup.triangles.pop();
        }
        let all = soup.triangles.clone();
        let tree = Tree::new(soup);
        let mut met = 0;
        for _ in 0..600 {
            let from = V::new(by.around(8.0), by.around(8.0), by.around(8.0));
            let ray = V::new(by.around(1.0), by.around(1.0), by.around(1.0)).normalize();
            let nearest =
                all.iter().filter_map(|t| cross(&t.at, from, ray)).map(|(d, _)| d).fold(f32::INFINITY, f32::min);
            let found = tree.meet(from, ray, 1e9).map_or(f32::INFINITY, |h| h.distance);
            assert!(nearest == found || (nearest - found).abs() < 1e-4, "{nearest} {found}");
            assert_eq!(tree.passes(from, ray, 1e9, |_| 0.0) > 0.5, nearest.is_infinite());
            met += usize::from(found.is_finite());
        }
        assert!((50..550).contains(&met));
    }
}
