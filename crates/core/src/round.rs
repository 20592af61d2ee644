//! Round numbers.

/// The step between ticks: the least of 1, 2 and 5 times a power of ten that needs no more ticks than named.
pub fn step(length: f64, most: usize) -> f64 {
    let rough = length / most.max(1) as f64;
    if !rough.is_finite() || rough <= 0.0 {
        return 1.0;
    }
    let power = 10_f64.powf(rough.log10().floor());
    let of = rough / power;
    let nice = [1.0, 2.0, 5.0, 10.0]
        .into_iter()
        .find(|nice| of <= nice + 1e-9);
    nice.unwrap_or(10.0) * power
}
