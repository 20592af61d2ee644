//! Small pictures that fit into a line of text.

pub use idle_tide_core::figures::grouped;

/// A cell filled from below, in eighths.
pub(crate) const BELOW: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// A cell filled from the left, in eighths.
pub(crate) const LEFT: [char; 9] = [' ', '▏', '▎', '▍', '▌', '▋', '▊', '▉', '█'];

/// A bar of so many cells that lies, to an eighth of one; what is there shows.
pub fn bar(cells: f64) -> String {
    let eighths = (cells * 8.0).round().max(1.0) as usize;
    let part = Some(LEFT[eighths % 8]).filter(|part| *part != ' ');
    std::iter::repeat_n(LEFT[8], eighths / 8)
        .chain(part)
        .collect()
}

/// A spread as a row of bars, one character a bin; a bin that is not empty shows at least the lowest bar.
pub fn spread(bins: &[u64]) -> String {
    let most = bins.iter().copied().max().unwrap_or(0);
    if most == 0 {
        return String::new();
    }
    bins.iter()
        .map(|count| BELOW[(count * 8).div_ceil(most) as usize])
        .collect()
}

/// A number with its noun in the right form: `1 row`, `14 rows`.
pub fn counted(number: u64, one: &str) -> String {
    let ending = if number == 1 { "" } else { "s" };
    format!("{} {one}{ending}", grouped(number))
}

/// A duration in the unit that reads best: `8 ms`, `3.1 s`, `4 min 05 s`.
pub fn lasting(time: std::time::Duration) -> String {
    let millis = time.as_millis();
    if millis < 1 {
        "under 1 ms".into()
    } else if millis < 1_000 {
        format!("{millis} ms")
    } else if millis < 60_000 {
        format!("{:.1} s", time.as_secs_f64())
    } else {
        format!("{} min {:02} s", millis / 60_000, millis / 1_000 % 60)
    }
}

/// Numbers one after the other as one line of blocks, the least at the bottom and the most at the top.
pub fn trend(values: &[f64]) -> String {
    const BLOCKS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let finite = || values.iter().copied().filter(|value| value.is_finite());
    let (least, most) = (
        finite().fold(f64::INFINITY, f64::min),
        finite().fold(f64::NEG_INFINITY, f64::max),
    );
    let block = |value: &f64| match value.is_finite() {
        true if most > least => BLOCKS[((value - least) / (most - least) * 7.0).round() as usize],
        true => BLOCKS[3],
        false => ' ',
    };
    values.iter().map(block).collect()
}

/// A size in the unit that reads best, in powers of 1000 (IEC 80000-13).
pub fn bytes(size: u64) -> String {
    match size {
        0..1_000 => counted(size, "byte"),
        1_000..1_000_000 => format!("{:.1} kB", size as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", size as f64 / 1e6),
        _ => format!("{:.1} GB", size as f64 / 1e9),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn bars_that_lie_end_at_an_eighth_and_are_never_nothing() {
        assert_eq!([bar(0.0), bar(1.5), bar(2.0)], ["▏", "█▌", "██"]);
    }

    #[test]
    fn words_for_numbers() {
        assert_eq!(grouped(1_284_000), "1 284 000");
        assert_eq!(grouped(999), "999");
        assert_eq!(counted(1, "row"), "1 row");
        assert_eq!(lasting(Duration::from_millis(245_900)), "4 min 05 s");
        assert_eq!(bytes(48_200_000), "48.2 MB");
        assert_eq!(spread(&[0, 1, 100]), " ▁█");
    }
}
