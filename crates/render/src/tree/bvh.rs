//! A tree of boxes over triangles, for rays: cut along the longest side where the areas of both parts, times what they
//! hold, are least (Wald, "On fast Construction of SAH-based Bounding Volume Hierarchies", 2007).

use nalgebra::Vector3;

type V = Vector3<f32>;

/// Triangles in a leaf.
const LEAF: usize = 4;
/// Places along a side at which it may be cut.
const BINS: usize = 16;
/// Cut in the middle of the number beyond this depth, so that no tree is deeper than a ray remembers.
const DEEPEST: u32 = 24;

#[derive(Debug, Clone, Copy)]
struct Node {
    low: V,
    high: V,
    /// First triangle of a leaf, or the left child.
    first: u32,
    /// Triangles of a leaf; 0 for a branch, whose children stand side by side.
    count: u32,
}

impl Node {
    /// Distance at which a ray enters the box; infinite when it misses.
    fn enter(&self, from: V, inverse: V) -> f32 {
        let (mut enter, mut leave) = (0.0f32, f32::INFINITY);
        for k in 0..3 {
            let (a, b) = ((self.low[k] - from[k]) * inverse[k], (self.high[k] - from[k]) * inverse[k]);
            // What is no number, from a side in which the ray lies, bounds nothing.
            let (near, far) = if a < b { (a, b) } else { (b, a) };
            enter = if near > enter { near } else { enter };
            leave = if far < leave { far } else { leave };
        }
        if enter > leave { f32::INFINITY } else { enter }
    }
}

#[derive(Debug, Clone, Copy)]
struct Triangle {
    a: V,
    ab: V,
    ac: V,
    /// Its position among those that the tree was built of.
    id: u32,
}

/// The tree.
#[derive(Debug, Clone, Default)]
pub(crate) struct Bvh {
    nodes: Vec<Node>,
    triangles: Vec<Triangle>,
}

/// The last bin of the first part, where triangles in bins are best cut; `None` where all lie in one.
fn cut(triangles: &[Triangle], bin: impl Fn(&Triangle) -> usize) -> Option<usize> {
    let nothing = (V::repeat(f32::INFINITY), V::repeat(f32::NEG_INFINITY), 0u32);
    let mut bins = [nothing; BINS];
    for t in triangles {
        let (low, high, count) = &mut bins[bin(t)];
        for p in [t.a, t.a + t.ab, t.a + t.ac] {
            (*low, *high) = (low.inf(&p), high.sup(&p));
        }
        *count += 1;
    }
    let joined = |a: &(V, V, u32), b: &(V, V, u32)| (a.0.inf(&b.0), a.1.sup(&b.1), a.2 + b.2);
    let cost = |(low, high, count): &(V, V, u32)| {
        let d = high - low;
        if *count == 0 { 0.0 } else { (d.x * d.y + d.y * d.z + d.z * d.x) * *count as f32 }
    };
    let mut after = [nothing; BINS + 1];
    for k in (0..BINS).rev() {
        after[k] = joined(&after[k + 1], &bins[k]);
    }
    let mut before = nothing;
    let mut best: Option<(f32, usize)> = None;
    for k in 0..BINS - 1 {
        before = joined(&before, &bins[k]);
        if before.2 == 0 || after[k + 1].2 == 0 {
            continue;
        }
        let of = cost(&before) + cost(&after[k + 1]);
        if best.is_none_or(|(least, _)| of < least) {
            best = Some((of, k));
        }
    }
    best.map(|(_, k)| k)
}

impl Bvh {
    pub fn build(triangles: &[[V; 3]]) -> Self {
        let mut tree = Self {
            nodes: Vec::new(),
            triangles: triangles
                .iter()
                .zip(0..)
                .map(|([a, b, c], id)| Triangle { a: *a, ab: b - a, ac: c - a, id })
                .collect(),
        };
        if !tree.triangles.is_empty() {
            tree.nodes.push(Node { low: V::zeros(), high: V::zeros(), first: 0, count: 0 });
            tree.split(0, 0, triangles.len(), 0);
        }
        tree
    }

    fn split(&mut self, node: usize, from: usize, to: usize, depth: u32) {
        let (mut low, mut high) = (V::repeat(f32::INFINITY), V::repeat(f32::NEG_INFINITY));
        let (mut inner_low, mut inner_high) = (low, high);
        for t in &self.triangles[from..to] {
            for p in [t.a, t.a + t.ab, t.a + t.ac] {
                low = low.inf(&p);
                high = high.sup(&p);
            }
            let middle = t.a + (t.ab + t.ac) / 3.0;
            inner_low = inner_low.inf(&middle);
            inner_high = inner_high.sup(&middle);
        }
        let axis = (inner_high - inner_low).imax();
        let wide = inner_high[axis] - inner_low[axis];
        if to - from <= LEAF || wide <= 0.0 {
            self.nodes[node] = Node { low, high, first: from as u32, count: (to - from) as u32 };
            return;
        }
        let middle = |t: &Triangle| t.a[axis] + (t.ab[axis] + t.ac[axis]) / 3.0;
        let bin = |t: &Triangle| (((middle(t) - inner_low[axis]) / wide * BINS as f32) as usize).min(BINS - 1);
        let sah = if depth < DEEPEST { cut(&self.triangles[from..to], bin) } else { None };
        let half = match sah {
            Some(last) => {
                let all = &mut self.triangles[from..to];
                let mut before = 0;
                for i in 0..all.len() {
                    if bin(&all[i]) <= last {
                        all.swap(i, before);
                        before += 1;
                    }
                }
                from + before
            }
            None => {
                let half = usize::midpoint(from, to);
                self.triangles[from..to].select_nth_unstable_by(half - from, |x, y| middle(x).total_cmp(&middle(y)));
                half
            }
        };
        let left = self.nodes.len();
        self.nodes.push(self.nodes[node]);
        self.nodes.push(self.nodes[node]);
        self.nodes[node] = Node { low, high, first: left as u32, count: 0 };
        self.split(left, from, half, depth + 1);
        self.split(left + 1, half, to, depth + 1);
    }

    /// What a ray meets first: its position among those that the tree was built of, and how far it is.
    pub fn nearest(&self, from: V, ray: V) -> Option<(u32, f32)> {
        if self.nodes.is_empty() {
            return None;
        }
        let inverse = ray.map(|v| 1.0 / v);
        let mut best: Option<(u32, f32)> = None;
        let mut stack = [(0u32, 0f32); 64];
        let enter = self.nodes[0].enter(from, inverse);
        let mut height = usize::from(enter.is_finite());
        stack[0] = (0, enter);
        while height > 0 {
            height -= 1;
            let (at, enter) = stack[height];
            if best.is_some_and(|(_, far)| enter > far) {
                continue;
            }
            let node = &self.nodes[at as usize];
            if node.count > 0 {
                for t in &self.triangles[node.first as usize..(node.first + node.count) as usize] {
                    if let Some((distance, ..)) = intersect(t, from, ray) {
                        if best.is_none_or(|(_, far)| distance < far) {
                            best = Some((t.id, distance));
                        }
                    }
                }
                continue;
            }
            let [left, right] = [node.first, node.first + 1];
            let [a, b] = [left, right].map(|c| self.nodes[c as usize].enter(from, inverse));
            // The nearer one is looked into first.
            let order = if a < b { [(right, b), (left, a)] } else { [(left, a), (right, b)] };
            for child in order {
                if height < stack.len() && child.1.is_finite() {
                    stack[height] = child;
                    height += 1;
                }
            }
        }
        best
    }

    /// Whether a ray meets anything nearer than `most` that is solid there: of which it is asked by its position among
    /// those that the tree was built of, and the weights of its second and third corner.
    pub fn blocks(&self, from: V, ray: V, most: f32, solid: impl Fn(u32, f32, f32) -> bool) -> bool {
        if self.nodes.is_empty() {
            return false;
        }
        let inverse = ray.map(|v| 1.0 / v);
        let mut stack = [0u32; 64];
        let reached = |node: &Node| node.enter(from, inverse) <= most && node.enter(from, inverse).is_finite();
        let mut height = usize::from(reached(&self.nodes[0]));
        while height > 0 {
            height -= 1;
            let node = &self.nodes[stack[height] as usize];
            if node.count == 0 {
                for child in [node.first, node.first + 1] {
                    if height < stack.len() && reached(&self.nodes[child as usize]) {
                        stack[height] = child;
                        height += 1;
                    }
                }
                continue;
            }
            let triangles = &self.triangles[node.first as usize..(node.first + node.count) as usize];
            if triangles
                .iter()
                .any(|t| intersect(t, from, ray).is_some_and(|(far, u, v)| far < most && solid(t.id, u, v)))
            {
                return true;
            }
        }
        false
    }
}

/// Distance, and the weights of the second and the third corner (Moeller & Trumbore, "Fast, Minimum Storage Ray-Triangle
/// Intersection", 1997); both sides.
fn intersect(t: &Triangle, from: V, ray: V) -> Option<(f32, f32, f32)> {
    let p = ray.cross(&t.ac);
    let det = t.ab.dot(&p);
    if det == 0.0 {
        return None;
    }
    let inverse = 1.0 / det;
    let s = from - t.a;
    let u = s.dot(&p) * inverse;
    if !(0.0..=1.0).contains(&u) {
        return None;
    }
    let q = s.cross(&t.ab);
    let v = ray.dot(&q) * inverse;
    let distance = t.ac.dot(&q) * inverse;
    (v >= 0.0 && u + v <= 1.0 && distance > 1e-4).then_some((distance, u, v))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_tree_finds_what_a_search_of_all_triangles_finds() {
        let mut seed = 7u32;
        let mut unit = || {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (seed >> 8) as f32 / 8_388_608.0 - 1.0
        };
        let mut v = |s: f32| V::new(unit(), unit(), unit()) * s;
        let triangles: Vec<[V; 3]> = (0..300)
            .map(|_| {
                let a = v(4.0);
                [a, a + v(1.0), a + v(1.0)]
            })
            .collect();
        let tree = Bvh::build(&triangles);
        let mut hits = 0;
        for _ in 0..500 {
            let (from, ray) = (v(6.0), v(1.0).normalize());
            let brute = tree.triangles.iter().any(|t| intersect(t, from, ray).is_some());
            assert_eq!(tree.blocks(from, ray, f32::INFINITY, |_, _, _| true), brute);
            assert!(!tree.blocks(from, ray, f32::INFINITY, |_, _, _| false));
            let all = tree.triangles.iter().filter_map(|t| Some((t.id, intersect(t, from, ray)?.0)));
            let first = all.min_by(|a, b| a.1.total_cmp(&b.1));
            assert_eq!(tree.nearest(from, ray), first);
            if let Some((_, far)) = first {
                assert!(!tree.blocks(from, ray, 0.999 * far, |_, _, _| true));
                assert!(tree.blocks(from, ray, 1.001 * far, |_, _, _| true));
            }
            hits += usize::from(brute);
        }
        assert!((50..450).contains(&hits), "{hits}");
        assert!(!Bvh::build(&[]).blocks(V::zeros(), V::x(), f32::INFINITY, |_, _, _| true));
    }
}
