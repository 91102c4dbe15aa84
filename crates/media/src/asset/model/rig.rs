//! Models that move by themselves: nodes turned and shifted over time, and skins that follow them (glTF 2.0, sections 3.7
//! and 3.11).

use nalgebra::{Matrix3, Matrix4, Point3, Quaternion, UnitQuaternion, Vector3};
use std::collections::HashMap;

/// Longest line of parents that is followed.
const DEEPEST: usize = 256;

/// What of a node changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Path {
    /// Where it is.
    Shift,
    /// How it is turned.
    Turn,
    /// How large it is.
    Scale,
}

/// How a value goes from key to key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Between {
    /// It stays.
    Step,
    /// Straight on, turns on the shortest arc.
    Linear,
    /// By tangents: of each key the one in, the value, the one out.
    Cubic,
}

/// A value of a node over time.
#[derive(Debug, Clone, PartialEq)]
pub struct Channel {
    /// Which node.
    pub node: usize,
    /// What of it.
    pub path: Path,
    /// Of the keys, seconds, rising.
    pub times: Vec<f32>,
    /// Of the keys; three or four numbers each, three times as many where they have tangents.
    pub values: Vec<[f32; 4]>,
    /// From key to key.
    pub between: Between,
}

/// A node at rest.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Node {
    /// What it hangs on.
    pub parent: Option<usize>,
    /// Where it is.
    pub shift: [f32; 3],
    /// How it is turned, x, y, z, w.
    pub turn: [f32; 4],
    /// How large it is.
    pub scale: [f32; 3],
}

/// Joints that a part follows.
#[derive(Debug, Clone, PartialEq)]
pub struct Skin {
    /// Nodes.
    pub joints: Vec<usize>,
    /// To each from the part's own frame.
    pub inverse: Vec<Matrix4<f32>>,
    /// Of each corner: joints of the list above, and how much each counts.
    pub bound: Vec<([u16; 4], [f32; 4])>,
}

/// A part of a model in its own frame.
#[derive(Debug, Clone, PartialEq)]
pub struct RigPart {
    /// The node that it hangs on.
    pub node: usize,
    /// Corners.
    pub positions: Vec<[f32; 3]>,
    /// One per corner; zero where faces are flat.
    pub normals: Vec<[f32; 3]>,
    /// What it follows instead of its node.
    pub skin: Option<Skin>,
}

/// How a model moves by itself.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Rig {
    /// All nodes.
    pub nodes: Vec<Node>,
    /// All parts, in the order in which their corners stand in the model.
    pub parts: Vec<RigPart>,
    /// What changes.
    pub channels: Vec<Channel>,
    /// How long that takes, seconds.
    pub length_s: f64,
}

impl Channel {
    /// Its value at a time, seconds; held before its first key and after its last.
    fn at(&self, time: f32) -> Option<[f32; 4]> {
        let cubic = self.between == Between::Cubic;
        let value = |k: usize| self.values.get(if cubic { 3 * k + 1 } else { k }).copied();
        let after = self.times.partition_point(|t| *t <= time);
        let (Some(i), true) = (after.checked_sub(1), after < self.times.len()) else {
            return value(after.min(self.times.len().checked_sub(1)?));
        };
        let (a, b, span) = (value(i)?, value(after)?, self.times[after] - self.times[i]);
        let t = if span > 0.0 { (time - self.times[i]) / span } else { 0.0 };
        Some(match self.between {
            Between::Step => a,
            Between::Linear if self.path == Path::Turn => {
                let (p, q) = (quaternion(a), quaternion(b));
                let made = p.try_slerp(&q, t, 1e-6).unwrap_or(p);
                [made.i, made.j, made.k, made.w]
            }
            Between::Linear => std::array::from_fn(|k| a[k] + t * (b[k] - a[k])),
            Between::Cubic => {
                let (out, into) = (self.values.get(3 * i + 2)?, self.values.get(3 * after)?);
                let (t2, t3) = (t * t, t * t * t);
                // Hermite's basis.
                let weights =
                    [2.0 * t3 - 3.0 * t2 + 1.0, span * (t3 - 2.0 * t2 + t), 3.0 * t2 - 2.0 * t3, span * (t3 - t2)];
                std::array::from_fn(|k| {
                    weights[0] * a[k] + weights[1] * out[k] + weights[2] * b[k] + weights[3] * into[k]
                })
            }
        })
    }
}

fn quaternion([x, y, z, w]: [f32; 4]) -> UnitQuaternion<f32> {
    UnitQuaternion::try_new(Quaternion::new(w, x, y, z), 1e-9).unwrap_or_default()
}

impl Rig {
    /// Whether it moves at all, or has skins to be posed.
    pub fn matters(&self) -> bool {
        !self.channels.is_empty() || self.parts.iter().any(|p| p.skin.is_some())
    }

    /// Of each node to the model's frame: at a time, seconds, or at rest.
    fn worlds(&self, time: Option<f32>) -> Vec<Matrix4<f32>> {
        let mut changed: HashMap<(usize, Path), [f32; 4]> = HashMap::new();
        for channel in time.iter().flat_map(|_| &self.channels) {
            if let Some(value) = channel.at(time.unwrap_or_default()) {
                changed.insert((channel.node, channel.path), value);
            }
        }
        let own: Vec<Matrix4<f32>> = (0..self.nodes.len())
            .map(|i| {
                let node = &self.nodes[i];
                let three = |path, rest: [f32; 3]| {
                    changed.get(&(i, path)).map_or(Vector3::from(rest), |v| Vector3::new(v[0], v[1], v[2]))
                };
                let turn = quaternion(changed.get(&(i, Path::Turn)).copied().unwrap_or(node.turn));
                Matrix4::new_translation(&three(Path::Shift, node.shift))
                    * turn.to_homogeneous()
                    * Matrix4::new_nonuniform_scaling(&three(Path::Scale, node.scale))
            })
            .collect();
        let world = |i: usize| {
            let mut m = own[i];
            let mut at = self.nodes[i].parent;
            for _ in 0..DEEPEST {
                let Some(p) = at.filter(|p| *p < own.len()) else { break };
                m = own[p] * m;
                at = self.nodes[p].parent;
            }
            m
        };
        (0..self.nodes.len()).map(world).collect()
    }

    /// Corners and normals in the model's frame, in the order of the model: at a time, seconds, or at rest.
    pub fn posed(&self, time: Option<f64>) -> (Vec<[f32; 3]>, Vec<[f32; 3]>) {
        let worlds = self.worlds(time.map(|t| t as f32));
        let (mut positions, mut normals) = (Vec::new(), Vec::new());
        for part in &self.parts {
            let own = worlds.get(part.node).copied().unwrap_or_else(Matrix4::identity);
            let joints: Option<Vec<Matrix4<f32>>> = part.skin.as_ref().map(|skin| {
                let of = |(j, inverse): (&usize, &Matrix4<f32>)| {
                    worlds.get(*j).copied().unwrap_or_else(Matrix4::identity) * inverse
                };
                skin.joints.iter().zip(&skin.inverse).map(of).collect()
            });
            for (k, p) in part.positions.iter().enumerate() {
                let m = match (&joints, &part.skin) {
                    (Some(joints), Some(skin)) => blended(joints, skin.bound.get(k), &own),
                    _ => own,
                };
                positions.push(<[f32; 3]>::from(m.transform_point(&Point3::from(*p))));
                normals.push(turned(&m.fixed_view::<3, 3>(0, 0).into_owned(), part.normals.get(k).copied()));
            }
        }
        (positions, normals)
    }
}

/// Linear blend skinning.
fn blended(joints: &[Matrix4<f32>], bound: Option<&([u16; 4], [f32; 4])>, own: &Matrix4<f32>) -> Matrix4<f32> {
    let Some((which, weights)) = bound else { return *own };
    let whole: f32 = weights.iter().sum();
    if !(whole > 1e-6) {
        return *own;
    }
    which.iter().zip(weights).fold(Matrix4::zeros(), |sum, (j, w)| {
        sum + joints.get(usize::from(*j)).copied().unwrap_or_else(Matrix4::identity) * (w / whole)
    })
}

/// Normals go with the inverse transposed (Turkowski 1990).
fn turned(m: &Matrix3<f32>, normal: Option<[f32; 3]>) -> [f32; 3] {
    let Some(n) = normal.filter(|n| *n != [0.0; 3]) else { return [0.0; 3] };
    let made = m.try_inverse().map_or(Vector3::from(n), |i| i.transpose() * Vector3::from(n));
    made.try_normalize(1e-9).map_or([0.0; 3], Into::into)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn node(parent: Option<usize>, shift: [f32; 3]) -> Node {
        Node { parent, shift, turn: [0.0, 0.0, 0.0, 1.0], scale: [1.0; 3] }
    }

    fn arm(skin: Option<Skin>) -> Rig {
        let half = std::f32::consts::FRAC_1_SQRT_2;
        let turn = Channel {
            node: 1,
            path: Path::Turn,
            times: vec![0.0, 1.0],
            values: vec![[0.0, 0.0, 0.0, 1.0], [0.0, 0.0, half, half]],
            between: Between::Linear,
        };
        let part = RigPart {
            node: 1,
            positions: vec![[1.0, 0.0, 0.0], [0.0, 0.0, 0.0]],
            normals: vec![[1.0, 0.0, 0.0], [0.0; 3]],
            skin,
        };
        let nodes = vec![node(None, [0.0, 2.0, 0.0]), node(Some(0), [0.0; 3])];
        Rig { nodes, parts: vec![part], channels: vec![turn], length_s: 1.0 }
    }

    fn near(a: [f32; 3], b: [f32; 3]) -> bool {
        a.iter().zip(b).all(|(a, b)| (a - b).abs() < 1e-5)
    }

    #[test]
    fn what_hangs_on_a_turning_node_turns() {
        let rig = arm(None);
        let at = |t| rig.posed(t).0[0];
        let half = std::f32::consts::FRAC_1_SQRT_2;
        assert!(near(at(None), [1.0, 2.0, 0.0]) && near(at(Some(0.0)), [1.0, 2.0, 0.0]));
        assert!(near(at(Some(0.5)), [half, 2.0 + half, 0.0]), "{:?}", at(Some(0.5)));
        assert!(near(at(Some(9.0)), [0.0, 3.0, 0.0]));
        let (_, normals) = rig.posed(Some(1.0));
        assert!(near(normals[0], [0.0, 1.0, 0.0]) && normals[1] == [0.0; 3]);
    }

    #[test]
    fn a_skin_follows_its_joints_by_their_weights() {
        let skin = Skin {
            joints: vec![0, 1],
            inverse: vec![Matrix4::new_translation(&Vector3::new(0.0, -2.0, 0.0)); 2],
            bound: vec![([0, 1, 0, 0], [0.5, 0.5, 0.0, 0.0]), ([9, 0, 0, 0], [0.0; 4])],
        };
        let mut rig = arm(Some(skin));
        rig.parts[0].positions[0] = [1.0, 2.0, 0.0];
        // Half of it stays, half turns by a quarter about (0, 2, 0).
        assert!(near(rig.posed(Some(1.0)).0[0], [0.5, 2.5, 0.0]), "{:?}", rig.posed(Some(1.0)).0);
        rig.nodes[0].parent = Some(1);
        assert_eq!(rig.posed(Some(0.3)).0.len(), 2, "a circle of parents ends");
    }

    #[test]
    fn steps_stay_and_tangents_bend() {
        let shift = |between, values: Vec<[f32; 4]>| Channel {
            node: 0,
            path: Path::Shift,
            times: vec![1.0, 3.0],
            values,
            between,
        };
        let v = |x: f32| [x, 0.0, 0.0, 0.0];
        assert_eq!(shift(Between::Step, vec![v(1.0), v(5.0)]).at(2.9), Some(v(1.0)));
        assert_eq!(shift(Between::Linear, vec![v(1.0), v(5.0)]).at(2.0), Some(v(3.0)));
        // At rest at both ends: 3 t^2 - 2 t^3.
        let eased = shift(Between::Cubic, vec![v(0.0), v(0.0), v(0.0), v(0.0), v(4.0), v(0.0)]);
        assert_eq!(eased.at(1.5), Some(v(4.0 * (3.0 / 16.0 - 2.0 / 64.0))));
        assert_eq!(shift(Between::Linear, Vec::new()).at(2.0), None);
    }
}
