//! What benches print.

/// Median, 95 % and worst of some times, in milliseconds.
pub fn say(what: &str, mut ms: Vec<f64>) {
    ms.sort_by(f64::total_cmp);
    let at = |share: f64| ms[((ms.len() - 1) as f64 * share) as usize];
    println!(
        "{what}: median {:.1}, 95 % {:.1}, worst {:.1} ms",
        at(0.5),
        at(0.95),
        at(1.0)
    );
}
