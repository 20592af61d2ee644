//! Narrowing a list of names by what was typed: names that begin with it, then those that hold it, then those
//! that hold its letters in their order, the closest together first.

/// Judges names by what was typed.
pub struct Narrow {
    typed: String,
}

impl Narrow {
    /// By this text.
    pub fn by(typed: &str) -> Self {
        Narrow {
            typed: typed.to_lowercase(),
        }
    }

    /// How far a name is from it, less for a better fit; `None` if it does not fit at all.
    pub fn distance(&self, name: &str) -> Option<u32> {
        if name
            .bytes()
            .any(|byte| byte.is_ascii_uppercase() || byte >= 0x80)
        {
            return self.distance_of_lower(&name.to_lowercase());
        }
        self.distance_of_lower(name)
    }

    /// The same for a name that is in lower case already.
    pub fn distance_of_lower(&self, name: &str) -> Option<u32> {
        let (name, typed) = (name.as_bytes(), self.typed.as_bytes());
        let Some(first_letter) = typed.first() else {
            return Some(0);
        };
        let length = name.len().min(9_999) as u32;
        if name.starts_with(typed) {
            return Some(length);
        }
        // The letters in their order: where the first one stands, and the last.
        let mut from = None;
        let mut best: Option<u32> = None;
        for (start, byte) in name.iter().enumerate() {
            if byte != first_letter {
                continue;
            }
            if name[start..].starts_with(typed) {
                // Nothing is closer than all together; an earlier place is better.
                return Some(10_000 + (start as u32).min(9_999));
            }
            let mut rest = typed[1..].iter();
            let mut wanted = rest.next();
            let mut end = start;
            for (at, byte) in name.iter().enumerate().skip(start + 1) {
                match wanted {
                    Some(letter) if byte == letter => {
                        end = at;
                        wanted = rest.next();
                    }
                    Some(_) => {}
                    None => break,
                }
            }
            if wanted.is_some() {
                // From further on there is even less of the name.
                break;
            }
            from.get_or_insert(start);
            let span = (end - start) as u32;
            best = Some(best.map_or(span, |known| known.min(span)));
        }
        best.map(|span| 20_000 + span.min(999) * 64 + (from.unwrap_or(0) as u32).min(63))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn closer_names_come_first() {
        let narrow = Narrow::by("vis");
        let mut names = [
            "vast islands",
            "visit_services",
            "visits",
            "invisible",
            "vi_s",
            "dues",
        ];
        names.sort_by_key(|name| narrow.distance(name).unwrap_or(u32::MAX));
        assert_eq!(
            names,
            [
                "visits",
                "visit_services",
                "invisible",
                "vi_s",
                "vast islands",
                "dues"
            ]
        );
        assert_eq!(narrow.distance("dues"), None);
        assert_eq!(narrow.distance("siv"), None);
        assert_eq!(Narrow::by("").distance("anything"), Some(0));
        assert!(
            Narrow::by("ÄB").distance("äb").is_some()
                && Narrow::by("s⛵").distance("x s⛵").is_some()
        );
        // A later beginning may hold the letters closer together.
        assert!(Narrow::by("ab").distance("a_____axb") < Narrow::by("ab").distance("a_____xb"));
    }
}
