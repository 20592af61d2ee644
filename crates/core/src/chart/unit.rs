//! Units of measure in what people write about a column.

/// Words and signs of units, in lower case: those of the International System and of what is used beside it (SI Brochure,
/// 9th edition, tables 2, 4 and 8), of information, money and the sea.
const UNITS: &str = "\
    % ampere amperes bar bytes celsius cents centimetres cm cm² cm³ days db decibels degrees dollars \
    eur euros fahrenheit fathoms feet ft g gb gbp gib grams h ha hectares hertz hours hpa hz inches \
    joules kb kelvin kg khz kib kilobytes kilograms kilometres kilowatts km km/h km² kn knots kw kwh l \
    litres lumens lux m m/s mb megabytes meters metres mg mhz mib miles milligrams millilitres \
    millimetres milliseconds minutes ml mm months ms mw mwh m² m³ nanoseconds newtons pa pascals pence \
    percent pounds rpm s seconds t tonnes tons usd v volts w watts weeks years °c °f";

/// Words that stand before or between units.
const BETWEEN: [&str; 5] = ["per", "cubic", "square", "nautical", "metric"];

fn is_named(word: &str) -> bool {
    UNITS.split_whitespace().any(|unit| unit == word)
}

fn is_unit(phrase: &str) -> bool {
    let words: Vec<String> = phrase.split_whitespace().map(str::to_lowercase).collect();
    let known = |at: usize| {
        let word = words[at].as_str();
        // One of a unit stands behind `per`.
        let one = at > 0 && words[at - 1] == "per" && is_named(&format!("{word}s"));
        one || is_named(word) || BETWEEN.contains(&word)
    };
    words.iter().any(|word| is_named(word)) && (0..words.len()).all(known)
}

/// The unit that a comment says values are in: in brackets, `depth (m)`, or in words behind `in` at the end of a part of a
/// sentence, `landed, in kilograms`. None where it is not one that is known.
pub fn unit(comment: &str) -> Option<&str> {
    // Brackets that belong to a word, `berth(s)`, or explain several, `male (m) or female (f)`, name no unit.
    let mut brackets = comment.split(['(', '[']);
    let before = brackets.next().unwrap_or_default();
    let inside = brackets
        .next()
        .and_then(|rest| rest.split([')', ']']).next());
    let alone = brackets.next().is_none() && !before.ends_with(char::is_alphanumeric);
    let in_brackets = inside
        .map(str::trim)
        .filter(|phrase| alone && is_unit(phrase));
    in_brackets.or_else(|| {
        comment
            .split([',', ';', '.', ':', '(', ')', '\n'])
            .flat_map(|part| {
                let part = part.trim();
                let inside = part.match_indices(" in ").map(|(at, _)| &part[at + 4..]);
                part.strip_prefix("in ").into_iter().chain(inside)
            })
            .map(str::trim)
            .find(|phrase| is_unit(phrase))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_are_found_where_people_write_them_and_nowhere_else() {
        for (comment, found) in [
            ("landed weight, in kilograms", "kilograms"),
            ("in metres, at chart datum", "metres"),
            ("depth (m)", "m"),
            ("speed [km/h] at the mole", "km/h"),
            ("surface of the quay in square metres", "square metres"),
            ("flow in litres per second", "litres per second"),
            (
                "distance in nautical miles; from the mole",
                "nautical miles",
            ),
            ("of the water (°C)", "°C"),
            ("price in cents per tonne", "cents per tonne"),
        ] {
            assert_eq!(unit(comment), Some(found), "{comment}");
        }
        for comment in [
            "null while she is still in",
            "where the vessel lay in the harbour",
            "in use",
            "in 2031",
            "in metres or feet, as they gave it",
            "how many lie in a berth (see berths)",
            "counted in per",
            "how often (n)",
            "of the berth(s)",
            "of the skipper: male (m) or female (f)",
            "",
        ] {
            assert_eq!(unit(comment), None, "{comment}");
        }
    }
}
