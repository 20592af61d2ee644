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

/// Intervals of one round width that hold all numbers from `least` to `most`, which differ: where the first begins, the width, and
/// how many there are, about `wanted` and 200 at most. Whole numbers have intervals of whole numbers.
pub fn intervals(least: f64, most: f64, wanted: usize, whole: bool) -> (f64, f64, usize) {
    let mut width = step((most - least).min(f64::MAX), wanted);
    if whole {
        width = width.max(1.0).round();
    }
    let from = (least / width).floor() * width;
    // The greatest value falls into the last interval.
    let count = interval_of(most, from, width).saturating_add(1).min(200);
    (from, width, count)
}

/// The interval into which a number falls, counted from 0.
pub fn interval_of(number: f64, from: f64, width: f64) -> usize {
    ((number - from) / width + 1e-9).floor().max(0.0) as usize
}
