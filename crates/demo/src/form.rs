//! Simple bodies, and where a ray meets them.

use nalgebra::Vector3;

type V = Vector3<f64>;

/// A body about the origin.
#[derive(Clone, Copy)]
pub(crate) enum Form {
    /// Half sizes; turned about Y, then leant about its own X: sines and cosines.
    Box { half: V, turn: (f64, f64), lean: (f64, f64) },
    /// Upright, radius and half height.
    Cylinder { radius: f64, half: f64 },
    /// Half axes.
    Ellipsoid { radii: V },
}

impl Form {
    /// Radius of the sphere round it.
    pub(crate) fn bounding(&self) -> f64 {
        match self {
            Self::Box { half, .. } => half.norm(),
            Self::Cylinder { radius, half } => radius.hypot(*half),
            Self::Ellipsoid { radii } => radii.max(),
        }
    }

    /// A place or direction as seen from a box's own axes.
    pub(crate) fn inwards(self, p: V) -> V {
        let Self::Box { turn: (sin, cos), lean: (fall, level), .. } = self else { return p };
        let q = V::new(cos * p.x - sin * p.z, p.y, sin * p.x + cos * p.z);
        V::new(q.x, level * q.y + fall * q.z, level * q.z - fall * q.y)
    }

    /// The upright edges of a box that stands straight: where each begins, and its height.
    pub(crate) fn uprights(self) -> Vec<(V, f64)> {
        let Self::Box { half, lean: (fall, _), .. } = self else { return Vec::new() };
        if fall != 0.0 {
            return Vec::new();
        }
        [(-1.0, -1.0), (-1.0, 1.0), (1.0, -1.0), (1.0, 1.0)]
            .map(|(x, z)| (self.outwards(V::new(x * half.x, -half.y, z * half.z)), 2.0 * half.y))
            .into()
    }

    fn outwards(self, p: V) -> V {
        let Self::Box { turn: (sin, cos), lean: (fall, level), .. } = self else { return p };
        let q = V::new(p.x, level * p.y - fall * p.z, level * p.z + fall * p.y);
        V::new(cos * q.x + sin * q.z, q.y, cos * q.z - sin * q.x)
    }

    /// Where a ray meets it: distance and outward normal.
    pub(crate) fn cross(&self, o: V, d: V) -> Option<(f64, V)> {
        match *self {
            Self::Box { half, .. } => {
                let (lo, ld) = (self.inwards(o), self.inwards(d));
                let (mut near, mut far, mut axis) = (f64::NEG_INFINITY, f64::INFINITY, 0);
                for k in 0..3 {
                    let inverse = 1.0 / ld[k];
                    let (a, b) = ((-half[k] - lo[k]) * inverse, (half[k] - lo[k]) * inverse);
                    let (a, b) = if a < b { (a, b) } else { (b, a) };
                    if a > near {
                        (near, axis) = (a, k);
                    }
                    far = far.min(b);
                }
                if near > far || near <= 0.0 {
                    return None;
                }
                let mut n = V::zeros();
                n[axis] = -ld[axis].signum();
                Some((near, self.outwards(n)))
            }
            Self::Cylinder { radius, half } => {
                let a = d.x * d.x + d.z * d.z;
                let b = o.x * d.x + o.z * d.z;
                let root = (b * b - a * (o.x * o.x + o.z * o.z - radius * radius)).max(-1.0);
                if root < 0.0 {
                    return None;
                }
                let t = (-b - root.sqrt()) / a;
                let p = o + d * t;
                if t > 0.0 && p.y.abs() <= half {
                    return Some((t, V::new(p.x, 0.0, p.z) / radius));
                }
                let t = (half - o.y) / d.y;
                let p = o + d * t;
                (t > 0.0 && d.y < 0.0 && p.x.hypot(p.z) <= radius).then(|| (t, V::y()))
            }
            Self::Ellipsoid { radii } => {
                let (so, sd) = (o.component_div(&radii), d.component_div(&radii));
                let (a, b) = (sd.norm_squared(), so.dot(&sd));
                let root = b * b - a * (so.norm_squared() - 1.0);
                if root < 0.0 {
                    return None;
                }
                let t = (-b - root.sqrt()) / a;
                (t > 0.0).then(|| (t, (so + sd * t).component_div(&radii).normalize()))
            }
        }
    }
}
