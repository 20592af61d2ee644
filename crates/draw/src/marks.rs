//! Any text as characters that are safe to send to a terminal. Control characters, line breaks,
//! direction marks and bytes that are no text become visible marks; what is left has a known width.
//! Nothing else in the program decides what may reach the screen.

use idle_tide_core::ValueRef;
use idle_tide_core::document::bson;
use unicode_segmentation::UnicodeSegmentation;
use unicode_width::UnicodeWidthChar;

/// Combining characters drawn on one letter; more become marks.
const COMBINING: usize = 3;

/// What kind of value is shown, for its colour and side.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Look {
    /// The word for null.
    Null,
    /// Empty text.
    Empty,
    /// A number.
    Number,
    /// Text.
    Text,
    /// Bytes.
    Bytes,
    /// True or false.
    Boolean,
    /// A field that is not there.
    Missing,
    /// An object or a list within a document.
    Nested,
    /// A date, an identifier or another value of a document.
    Other,
    /// A value that is not shown.
    Covered,
}

/// Characters of one style.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Run {
    /// Safe characters.
    pub text: String,
    /// Whether they stand for something that cannot be drawn.
    pub mark: bool,
}

/// What is drawn for a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shown {
    /// The characters, marks apart from the rest.
    pub runs: Vec<Run>,
    /// Columns they take.
    pub width: usize,
    /// Whether something was left out at the end; the last column is then `…`.
    pub clipped: bool,
    /// What kind of value it is.
    pub look: Look,
}

impl Shown {
    /// All characters in one string.
    pub fn text(&self) -> String {
        self.runs.iter().map(|run| run.text.as_str()).collect()
    }
}

struct Painter {
    runs: Vec<Run>,
    width: usize,
    most: usize,
    clipped: bool,
}

impl Painter {
    /// Adds characters of a known width; false when there is no room left.
    fn put(&mut self, text: &str, width: usize, mark: bool) -> bool {
        if self.width + width > self.most {
            self.clipped = true;
            return false;
        }
        self.width += width;
        match self.runs.last_mut() {
            Some(run) if run.mark == mark => run.text.push_str(text),
            _ => self.runs.push(Run {
                text: text.to_string(),
                mark,
            }),
        }
        true
    }

    fn code(&mut self, code: u32) -> bool {
        let text = format!("⟨{code:02x}⟩");
        self.put(&text, text.chars().count(), true)
    }

    fn finish(mut self, look: Look) -> Shown {
        if self.clipped && self.most > 0 {
            // Make room for the sign that says so.
            while self.width >= self.most {
                let Some(run) = self.runs.last_mut() else {
                    break;
                };
                match run.text.pop() {
                    Some(character) => self.width -= character.width().unwrap_or(0),
                    None => {
                        self.runs.pop();
                    }
                }
            }
            self.put("…", 1, true);
        }
        Shown {
            runs: self.runs,
            width: self.width,
            clipped: self.clipped,
            look,
        }
    }
}

/// What is drawn in the place of a value that is not shown.
pub fn covered(word: &str) -> Shown {
    Shown {
        look: Look::Covered,
        ..show_label(word, word.len())
    }
}

/// The mark for a character that must not reach a terminal; `None` if it may.
fn mark_of(character: char) -> Option<String> {
    let code = u32::from(character);
    Some(match character {
        '\n' => "¶".into(),
        '\t' => "⇥".into(),
        // The pictures of control characters are missing in many fonts; their codes are not.
        '\0'..='\x1f' | '\x7f' => format!("⟨{code:02x}⟩"),
        '\u{80}'..='\u{9f}'
        | '\u{ad}'
        | '\u{34f}'
        | '\u{61c}'
        | '\u{115f}'..='\u{1160}'
        | '\u{17b4}'..='\u{17b5}'
        | '\u{180b}'..='\u{180f}'
        | '\u{200b}'..='\u{200f}'
        | '\u{2028}'..='\u{202e}'
        | '\u{2060}'..='\u{206f}'
        | '\u{3164}'
        | '\u{fe00}'..='\u{fe0d}'
        | '\u{feff}'
        | '\u{ffa0}'
        | '\u{fff0}'..='\u{fffb}'
        | '\u{1bca0}'..='\u{1bca3}'
        | '\u{1d173}'..='\u{1d17a}'
        | '\u{e0000}'..='\u{e0fff}'
        | '\u{e000}'..='\u{f8ff}'
        | '\u{f0000}'..='\u{10ffff}' => format!("⟨{code:x}⟩"),
        _ => return None,
    })
}

fn paint(text: &str, painter: &mut Painter) -> bool {
    // Most text is plain: letters, digits and signs one column wide each.
    let plain = text
        .bytes()
        .take(painter.most + 1)
        .take_while(|byte| (0x20..0x7f).contains(byte))
        .count();
    // The last letter may carry the combining characters that follow it.
    let plain = plain - usize::from(plain > 0 && plain < text.len());
    let fits = plain.min(painter.most - painter.width);
    if fits > 0 {
        painter.put(&text[..fits], fits, false);
    }
    if fits == text.len() {
        return true;
    }
    for cluster in text[fits..].graphemes(true) {
        let mut characters = cluster.chars();
        let Some(base) = characters.next() else {
            continue;
        };
        let safe = cluster.chars().all(|c| mark_of(c).is_none());
        let tail_is_combining = characters
            .clone()
            .all(|c| c.width() == Some(0) && mark_of(c).is_none());
        let drawn = if safe && tail_is_combining && characters.clone().count() <= COMBINING {
            // A variation selector only chooses between drawings, and terminals disagree on their width.
            let text: String = cluster
                .chars()
                .filter(|c| !matches!(c, '\u{fe0e}' | '\u{fe0f}'))
                .collect();
            match base.width() {
                Some(0) | None => painter.put(&format!("◌{text}"), 1, true),
                Some(width) => painter.put(&text, width, false),
            }
        } else {
            // Anything unusual is drawn character by character.
            let mut combining = 0;
            cluster.chars().all(|c| {
                if let Some(mark) = mark_of(c) {
                    let width = mark.chars().count();
                    return painter.put(&mark, width, true);
                }
                match c.width() {
                    Some(0) | None => {
                        combining += 1;
                        combining > COMBINING || painter.put(&format!("◌{c}"), 1, true)
                    }
                    Some(width) => painter.put(c.encode_utf8(&mut [0; 4]), width, false),
                }
            })
        };
        if !drawn {
            return false;
        }
    }
    true
}

fn painter(most: usize) -> Painter {
    Painter {
        runs: Vec::new(),
        width: 0,
        most,
        clipped: false,
    }
}

fn paint_with_trailing_blanks(text: &str, painter: &mut Painter) {
    let body = text.trim_end_matches(' ');
    if paint(body, painter) {
        for _ in body.len()..text.len() {
            if !painter.put("␣", 1, true) {
                break;
            }
        }
    }
}

/// Text in at most `most` columns. Blanks at its end are marked.
pub fn show_text(text: &str, most: usize) -> Shown {
    let mut painter = painter(most);
    paint_with_trailing_blanks(text, &mut painter);
    painter.finish(Look::Text)
}

/// Text in at most `most` columns with plain trailing blanks, for labels and statements.
pub fn show_label(text: &str, most: usize) -> Shown {
    let mut painter = painter(most);
    paint(text, &mut painter);
    painter.finish(Look::Text)
}

/// A value in at most `most` columns: `null`, `''` for empty text, `x'…'` for bytes, everything else as
/// it is.
pub fn show_value(value: ValueRef<'_>, most: usize) -> Shown {
    let mut painter = painter(most);
    let look = match value {
        ValueRef::Null => {
            painter.put("null", 4, false);
            Look::Null
        }
        ValueRef::Text("") | ValueRef::RawText(b"") => {
            painter.put("''", 2, false);
            Look::Empty
        }
        ValueRef::Text(text) => {
            paint_with_trailing_blanks(text, &mut painter);
            Look::Text
        }
        ValueRef::RawText(bytes) => {
            for chunk in bytes.utf8_chunks() {
                if !paint(chunk.valid(), &mut painter)
                    || !chunk
                        .invalid()
                        .iter()
                        .all(|byte| painter.code(u32::from(*byte)))
                {
                    break;
                }
            }
            Look::Text
        }
        ValueRef::Bytes(bytes) => {
            let head = &bytes[..bytes.len().min(most / 2 + 1)];
            let text = format!("x'{}'", ValueRef::Bytes(head).plain());
            painter.clipped = head.len() < bytes.len();
            for character in text.chars() {
                if !painter.put(character.encode_utf8(&mut [0; 4]), 1, false) {
                    break;
                }
            }
            Look::Bytes
        }
        ValueRef::Boolean(_) => {
            paint(&value.plain(), &mut painter);
            Look::Boolean
        }
        ValueRef::Missing => {
            painter.put("·", 1, false);
            Look::Missing
        }
        ValueRef::Bson(tag @ (bson::OBJECT | bson::LIST), bytes) => {
            let count = bson::elements(bytes).count();
            let words = if tag == bson::LIST {
                format!("⋯ {count}")
            } else {
                "⋯".into()
            };
            paint(&words, &mut painter);
            Look::Nested
        }
        ValueRef::Bson(bson::DECIMAL, _) => {
            paint(&value.plain(), &mut painter);
            Look::Number
        }
        ValueRef::Bson(bson::DATE, bytes) => {
            let date = bytes.try_into().map_or(0, i64::from_le_bytes);
            paint(
                &idle_tide_core::document::time::readable(date),
                &mut painter,
            );
            Look::Other
        }
        ValueRef::Bson(..) => {
            paint(&value.plain(), &mut painter);
            Look::Other
        }
        ValueRef::Integer(_) | ValueRef::Float(_) | ValueRef::Number(_) => {
            paint(&value.plain(), &mut painter);
            Look::Number
        }
    };
    painter.finish(look)
}

/// The same as [`show_value`], with nested values written out.
pub fn show_whole(value: ValueRef<'_>, most: usize) -> Shown {
    match value {
        ValueRef::Bson(bson::OBJECT | bson::LIST, _) => show_text(&value.plain(), most),
        other => show_value(other, most),
    }
}

/// A writer that lets line breaks and tabs through and marks everything else that a terminal would
/// obey. For results that go to a terminal without a screen of ours.
#[derive(Debug)]
pub struct Visible<W> {
    inner: W,
    /// The start of a character whose end has not come yet.
    held: Vec<u8>,
    /// Combining characters since the last other one.
    combining: usize,
}

impl<W: std::io::Write> Visible<W> {
    /// Marks what goes to `inner`.
    pub fn new(inner: W) -> Self {
        Visible {
            inner,
            held: Vec::new(),
            combining: 0,
        }
    }
}

impl<W: std::io::Write> std::io::Write for Visible<W> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.held.extend_from_slice(bytes);
        // A character cut in two waits for its other half.
        let whole = match std::str::from_utf8(&self.held) {
            Err(error) if error.error_len().is_none() => error.valid_up_to(),
            _ => self.held.len(),
        };
        let mut out = String::with_capacity(whole);
        for chunk in self.held[..whole].utf8_chunks() {
            for character in chunk.valid().chars() {
                self.combining = match character.width() {
                    Some(0) => self.combining + 1,
                    _ => 0,
                };
                match mark_of(character) {
                    Some(mark) if !matches!(character, '\n' | '\t') => out.push_str(&mark),
                    _ if self.combining > COMBINING => {
                        out.push_str(&format!("⟨{:x}⟩", u32::from(character)));
                    }
                    _ => out.push(character),
                }
            }
            for byte in chunk.invalid() {
                out.push_str(&format!("⟨{byte:02x}⟩"));
            }
        }
        self.inner.write_all(out.as_bytes())?;
        self.held.drain(..whole);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use unicode_width::UnicodeWidthStr;

    fn shown(text: &str) -> String {
        show_text(text, 60).text()
    }

    #[test]
    fn what_a_terminal_would_obey_becomes_a_mark() {
        assert_eq!(shown("\x1b[31mred\x07"), "⟨1b⟩[31mred⟨07⟩");
        assert_eq!(shown("first\nsecond\tthird\r"), "first¶second⇥third⟨0d⟩");
        assert_eq!(shown("csi \u{9b}2J"), "csi ⟨9b⟩2J");
        assert_eq!(shown("left\u{202e}right"), "left⟨202e⟩right");
        assert_eq!(shown("ends  "), "ends␣␣");
        assert_eq!(shown("crew 🐕 潮"), "crew 🐕 潮");
        assert_eq!(shown("e\u{301}clair"), "e\u{301}clair");
        assert!(shown(&format!("a{}", "\u{301}".repeat(50))).chars().count() < 20);
        assert_eq!(shown("👩\u{200d}🔧"), "👩⟨200d⟩🔧");
        // What fills a place and shows nothing.
        for hidden in [
            '\u{34f}', '\u{115f}', '\u{1160}', '\u{17b4}', '\u{180b}', '\u{3164}', '\u{ffa0}',
        ] {
            assert_eq!(
                shown(&format!("a{hidden}b")),
                format!("a⟨{:x}⟩b", u32::from(hidden))
            );
        }
        let mut out = Visible::new(Vec::new());
        std::io::Write::write_all(
            &mut out,
            format!("a{}b\u{115f}", "\u{301}".repeat(5)).as_bytes(),
        )
        .expect("written");
        let text = String::from_utf8(out.inner).expect("UTF-8");
        assert_eq!(text, "a\u{301}\u{301}\u{301}⟨301⟩⟨301⟩b⟨115f⟩");
        assert_eq!(
            show_value(ValueRef::RawText(&[b'a', 0xff]), 20).text(),
            "a⟨ff⟩"
        );
    }

    #[test]
    fn values_are_told_apart_and_clipped() {
        let look = |value| {
            let shown = show_value(value, 12);
            (shown.text(), shown.look, shown.clipped)
        };
        assert_eq!(look(ValueRef::Null), ("null".into(), Look::Null, false));
        assert_eq!(
            look(ValueRef::Text("null")),
            ("null".into(), Look::Text, false)
        );
        assert_eq!(look(ValueRef::Text("")), ("''".into(), Look::Empty, false));
        assert_eq!(
            look(ValueRef::Bytes(&[1; 100])),
            ("x'010101010…".into(), Look::Bytes, true)
        );
        let long = "潮".repeat(100);
        let clipped = show_value(ValueRef::Text(&long), 12);
        assert!(clipped.clipped && clipped.width <= 12, "{clipped:?}");
    }

    #[test]
    fn a_stream_is_marked_across_writes() {
        use std::io::Write;
        let mut out = Vec::new();
        let mut visible = Visible::new(&mut out);
        for byte in "a\x1b[2J潮\n".as_bytes() {
            visible.write_all(&[*byte]).expect("written");
        }
        assert_eq!(String::from_utf8(out).expect("text"), "a⟨1b⟩[2J潮\n");
    }

    proptest! {
        #[test]
        fn any_text_is_safe_and_keeps_within_its_width(text in any::<String>(), most in 1_usize..40) {
            let shown = show_text(&text, most);
            let out = shown.text();
            prop_assert!(!out.chars().any(|c| c.is_control()));
            prop_assert!(shown.width <= most);
            prop_assert!(out.width() <= most + 1, "{out:?}");
        }
    }
}
