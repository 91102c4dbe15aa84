//! Which pixels belong together: the least sum of what each says of itself and of the edge between them.

use rayon::prelude::*;

/// Part of an edge that costs something however much the pixels on either side of it differ.
const ALWAYS: f32 = 0.1;
/// Steps of the primal-dual iteration, and how long they are: their product times eight, the square of the norm of the
/// gradient, is under one.
const STEPS: usize = 300;
const STEP: f32 = 0.35;

/// Pixels, 0 outside to 1 inside, that make `sum (own * u) + smooth * sum (weight * |grad u|)` least. `own` says how much
/// better a pixel fits outside than inside; an edge costs the less the more the colours differ across it (Boykov & Jolly
/// 2001). The sum is convex in u, so what is above one half is a least cut (Chan, Esedoglu & Nikolova 2006); it is found
/// by the primal-dual iteration of Chambolle & Pock 2011.
///
/// # Panics
/// Where `own` and `colours` are not of `width` columns.
pub fn minimal_cut<const N: usize>(own: &[f32], colours: &[[f32; N]], width: usize, smooth: f32) -> Vec<f32> {
    assert!(own.len() == colours.len() && own.len().is_multiple_of(width), "pixels row by row");
    let (w, count) = (width, own.len());
    let differ = |a: usize, b: usize| (0..N).map(|k| (colours[a][k] - colours[b][k]).powi(2)).sum::<f32>();
    let beside = |k: usize| [(k % w + 1 < w).then_some(k + 1), (k + w < count).then_some(k + w)];
    let (mut sum, mut pairs) = (0.0f64, 0.0f64);
    for k in 0..count {
        for next in beside(k).into_iter().flatten() {
            sum += f64::from(differ(k, next));
            pairs += 1.0;
        }
    }
    let usual = 2.0 * ((sum / pairs.max(1.0)) as f32).max(1e-6);
    let weight = |k: usize, to: usize| smooth * (ALWAYS + (1.0 - ALWAYS) * (-differ(k, to) / usual).exp());
    let weights: Vec<[f32; 2]> =
        (0..count).into_par_iter().map(|k| beside(k).map(|to| to.map_or(0.0, |to| weight(k, to)))).collect();
    let mut inside: Vec<f32> = own.iter().map(|d| if *d < 0.0 { 1.0 } else { 0.0 }).collect();
    let mut ahead = inside.clone();
    let mut flow = vec![[0.0f32; 2]; count];
    for _ in 0..STEPS {
        flow.par_chunks_mut(w).zip(weights.par_chunks(w)).enumerate().for_each(|(y, (flow, weights))| {
            let at = y * w;
            let under = (at + w < count).then(|| &ahead[at + w..at + 2 * w]);
            let row = &ahead[at..at + w];
            for x in 0..w {
                let right = if x + 1 < w { row[x + 1] - row[x] } else { 0.0 };
                let down = under.map_or(0.0, |under| under[x] - row[x]);
                let [across, along] = weights[x];
                flow[x][0] = (flow[x][0] + STEP * right).clamp(-across, across);
                flow[x][1] = (flow[x][1] + STEP * down).clamp(-along, along);
            }
        });
        inside.par_chunks_mut(w).zip(ahead.par_chunks_mut(w)).enumerate().for_each(|(y, (inside, ahead))| {
            let at = y * w;
            for x in 0..w {
                let k = at + x;
                let left = if x > 0 { flow[k - 1][0] } else { 0.0 };
                let above = if y > 0 { flow[k - w][1] } else { 0.0 };
                let from = flow[k][0] - left + flow[k][1] - above;
                let next = (inside[x] + STEP * (from - own[k])).clamp(0.0, 1.0);
                ahead[x] = 2.0 * next - inside[x];
                inside[x] = next;
            }
        });
    }
    inside
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn specks_go_and_the_edge_follows_the_colours() {
        // A square whose own evidence is broken by specks, and reaches two columns too far to the right.
        let (w, h) = (40usize, 30usize);
        let is_in = |x: usize, y: usize| (10..26).contains(&x) && (8..22).contains(&y);
        let colours: Vec<[f32; 1]> = (0..w * h).map(|k| [if is_in(k % w, k / w) { 200.0 } else { 60.0 }]).collect();
        let own: Vec<f32> = (0..w * h)
            .map(|k| {
                let (x, y) = (k % w, k / w);
                let speck = (x * 7 + y * 13) % 17 == 0;
                let wide = (10..28).contains(&x) && (8..22).contains(&y);
                let fits = if wide != speck { -1.0 } else { 1.0 };
                if (26..28).contains(&x) { 0.2 * fits } else { fits }
            })
            .collect();
        let cut = minimal_cut(&own, &colours, w, 1.0);
        let wrong = |u: &dyn Fn(usize) -> bool| (0..w * h).filter(|k| u(*k) != is_in(k % w, k / w)).count();
        assert!(wrong(&|k| own[k] < 0.0) > 90);
        assert_eq!(wrong(&|k| cut[k] > 0.5), 0);
        let undecided = cut.iter().filter(|u| (0.05..0.95).contains(*u)).count();
        assert!(undecided < 12, "{undecided} pixels lie in between");
    }
}
