//! Scratch.
use fennik_core::{solve::*, track::*};
fn main() {
    for f in std::env::args().skip(1) {
        let set = TrackSet::from_bytes(&std::fs::read(&f).unwrap()).unwrap();
        let p = Problem::new(&set, 4, &Default::default());
        let k = keyframes::select(&p);
        let kk: Vec<u32> = if k.len() > 16 { (0..16).map(|i| k[i * (k.len() - 1) / 15]).collect() } else { k.clone() };
        println!("{f} keys {} tracks {}", k.len(), p.tracks.len());
        if let Some(n) = nodal::fit(&p, &kk) {
            println!("  nodal {:.3} px f {:.1} k1 {:.4} pts {}", n.median_px, n.lens.focal_px, n.lens.k1, n.points);
        } else { println!("  nodal none"); }
        for f0 in start::FOCAL_STARTS {
            let s = start::find_start(&p, &k, Some(f0 * 1280.0));
            match s { Ok(s) => println!("  given {f0}: posed {} pts {} k1 {:.3}", s.poses.iter().flatten().count(), s.points.iter().flatten().count(), s.lens.k1), Err(e) => println!("  given {f0}: {e}") }
        }
        let s = start::find_start(&p, &k, None);
        if let Ok(s) = s { println!("  free: f {:.1} k1 {:.4} posed {} pts {}", s.lens.focal_px, s.lens.k1, s.poses.iter().flatten().count(), s.points.iter().flatten().count()); }
    }
}
