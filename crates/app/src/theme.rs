//! Colours: what a tone looks like on a ground, per theme and per depth of colour. Colours mean one thing
//! each; every text keeps a contrast of 4.5 to 1 (WCAG 2.1) on every ground, which a test computes.

use idle_tide_desk::Tone;
use ratatui::style::{Color, Modifier, Style};

/// What a text stands on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Ground {
    /// Above the tide line.
    Air,
    /// Every second row, the bearings, and lists that open.
    Shade,
    /// Below the tide line.
    Water,
    /// The scope strip and the hints.
    Strip,
    /// The current row or choice.
    Selected,
    /// The current cell.
    Cell,
}

/// The themes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ThemeName {
    /// For dark terminals.
    Deep,
    /// For light ones.
    Shoal,
    /// Without colours.
    Plain,
}

impl ThemeName {
    /// The theme of this name.
    pub fn named(name: &str) -> Option<Self> {
        match name.to_ascii_lowercase().as_str() {
            "deep" => Some(ThemeName::Deep),
            "shoal" => Some(ThemeName::Shoal),
            "plain" => Some(ThemeName::Plain),
            _ => None,
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            ThemeName::Deep => "deep",
            ThemeName::Shoal => "shoal",
            ThemeName::Plain => "plain",
        }
    }
}

/// How many colours the terminal shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// 24-bit colour.
    True,
    /// The 256 colours of xterm.
    Indexed,
    /// The sixteen of the terminal's own palette.
    Sixteen,
}

/// A theme at a depth.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Theme {
    /// The theme.
    pub name: ThemeName,
    /// The depth.
    pub depth: Depth,
}

type Rgb = (u8, u8, u8);

/// The colours of series on dark ground: their lightness alternates, so that neighbours stay apart for every eye.
const SERIES_DEEP: [Rgb; 8] = [
    (0x5f, 0xc9, 0xc4),
    (0xff, 0xb2, 0x6b),
    (0xb0, 0x9c, 0xf5),
    (0xb8, 0xd9, 0x7a),
    (0xf0, 0x8a, 0xa8),
    (0x8f, 0xc8, 0xff),
    (0xd9, 0xc9, 0x66),
    (0xb9, 0xc3, 0xc7),
];
/// The same on light ground.
const SERIES_SHOAL: [Rgb; 8] = [
    (0x0b, 0x5d, 0x7a),
    (0xb0, 0x52, 0x10),
    (0x5b, 0x3a, 0x8e),
    (0x3f, 0x74, 0x22),
    (0x9c, 0x1f, 0x4b),
    (0x2a, 0x73, 0xa6),
    (0x6b, 0x5a, 0x00),
    (0x5c, 0x62, 0x68),
];
const SERIES_SIXTEEN: [Color; 8] = [
    Color::Cyan,
    Color::Yellow,
    Color::Magenta,
    Color::Green,
    Color::Red,
    Color::Blue,
    Color::LightYellow,
    Color::Gray,
];

impl Theme {
    /// The theme that the environment asks for: none with `NO_COLOR`, else what was chosen, else by the
    /// terminal's own ground where it says so (`COLORFGBG`).
    pub fn from_environment(chosen: Option<ThemeName>) -> Self {
        let variable = |name: &str| std::env::var(name).unwrap_or_default();
        let term = variable("TERM");
        let colour = variable("COLORTERM");
        let depth = if colour.contains("truecolor")
            || colour.contains("24bit")
            || term.ends_with("-direct")
        {
            Depth::True
        } else if term.contains("256color") {
            Depth::Indexed
        } else {
            Depth::Sixteen
        };
        let none = !variable("NO_COLOR").is_empty() || term == "dumb";
        let light = matches!(variable("COLORFGBG").rsplit(';').next(), Some("7" | "15"));
        let name = match chosen {
            _ if none => ThemeName::Plain,
            Some(name) => name,
            None if light => ThemeName::Shoal,
            None => ThemeName::Deep,
        };
        Theme { name, depth }
    }

    fn is_coloured(self) -> bool {
        self.name != ThemeName::Plain && self.depth != Depth::Sixteen
    }

    /// The style of a series of a picture; without colours all are alike.
    pub fn series(self, series: usize) -> Style {
        let style = self.style(Ground::Air, Tone::Plain);
        let at = series % 8;
        match (self.name, self.depth) {
            (ThemeName::Plain, _) => style,
            (_, Depth::Sixteen) => style.fg(SERIES_SIXTEEN[at]),
            (ThemeName::Deep, Depth::True) => style.fg(rgb(SERIES_DEEP[at])),
            (_, Depth::True) => style.fg(rgb(SERIES_SHOAL[at])),
            (ThemeName::Deep, _) => {
                style.fg(Color::Indexed([80, 215, 141, 150, 211, 117, 186, 250][at]))
            }
            _ => style.fg(Color::Indexed([24, 130, 55, 64, 89, 31, 58, 242][at])),
        }
    }

    /// The style of a text.
    pub fn style(self, ground: Ground, tone: Tone) -> Style {
        let mut style = Style::new();
        if matches!(tone, Tone::Heading | Tone::Key) {
            style = style.add_modifier(Modifier::BOLD);
        }
        if !self.is_coloured() {
            return self.bare(ground, tone, style);
        }
        if tone == Tone::Key {
            // A key's cap is drawn in reverse: faint ground, dark letters.
            return style
                .fg(self.ground(Ground::Air))
                .bg(self.tone(Tone::Faint));
        }
        // Supporting text on the brightest ground needs the strength of plain text.
        let tone = if (ground, tone) == (Ground::Cell, Tone::Faint) {
            Tone::Plain
        } else {
            tone
        };
        style.fg(self.tone(tone)).bg(self.ground(ground))
    }

    /// Sixteen colours or none: the terminal's own ground, and reverse where a ground has to be seen.
    fn bare(self, ground: Ground, tone: Tone, mut style: Style) -> Style {
        if matches!(ground, Ground::Strip | Ground::Selected) || tone == Tone::Key {
            style = style.add_modifier(Modifier::REVERSED);
        }
        if ground == Ground::Cell {
            style = style.add_modifier(Modifier::REVERSED | Modifier::BOLD | Modifier::UNDERLINED);
        }
        if self.name == ThemeName::Plain {
            return match tone {
                Tone::Active => style.add_modifier(Modifier::BOLD),
                Tone::Danger | Tone::Care => {
                    style.add_modifier(Modifier::BOLD | Modifier::UNDERLINED)
                }
                _ => style,
            };
        }
        match tone {
            Tone::Active | Tone::Picture => style.fg(Color::Green),
            Tone::Danger => style.fg(Color::Red),
            Tone::Care => style.fg(Color::Yellow),
            _ => style,
        }
    }

    /// The ornament colour: lines that say nothing.
    pub fn ornament(self, ground: Ground) -> Style {
        if !self.is_coloured() {
            return Style::new();
        }
        let line = match (self.name, self.depth) {
            (ThemeName::Shoal, Depth::True) => rgb((0x5f, 0x9d, 0x98)),
            (_, Depth::True) => rgb((0x2b, 0x6f, 0x76)),
            (ThemeName::Shoal, _) => Color::Indexed(73),
            _ => Color::Indexed(30),
        };
        Style::new().fg(line).bg(self.ground(ground))
    }

    /// A ground's own colour.
    pub fn ground(self, ground: Ground) -> Color {
        if !self.is_coloured() {
            return Color::Reset;
        }
        match self.depth {
            Depth::True => rgb(self.ground_rgb(ground)),
            _ => Color::Indexed(self.ground_index(ground)),
        }
    }

    fn tone(self, tone: Tone) -> Color {
        match self.depth {
            Depth::True => rgb(self.tone_rgb(tone)),
            _ => Color::Indexed(self.tone_index(tone)),
        }
    }

    fn ground_rgb(self, ground: Ground) -> Rgb {
        let deep = self.name == ThemeName::Deep;
        match ground {
            Ground::Air if deep => (0x0f, 0x16, 0x1b),
            Ground::Shade if deep => (0x16, 0x21, 0x29),
            Ground::Water if deep => (0x11, 0x3a, 0x4d),
            Ground::Strip if deep => (0x17, 0x49, 0x5f),
            Ground::Selected if deep => (0x1a, 0x48, 0x57),
            Ground::Cell if deep => (0x1d, 0x5a, 0x66),
            Ground::Air => (0xfb, 0xfc, 0xfa),
            Ground::Shade => (0xf0, 0xf4, 0xf2),
            Ground::Water => (0xdd, 0xee, 0xf2),
            Ground::Strip => (0xc9, 0xe3, 0xea),
            Ground::Selected => (0xcd, 0xe6, 0xe2),
            Ground::Cell => (0xb5, 0xdc, 0xd6),
        }
    }

    fn tone_rgb(self, tone: Tone) -> Rgb {
        if self.name == ThemeName::Deep {
            match tone {
                Tone::Plain => (0xdd, 0xe7, 0xe8),
                Tone::Heading => (0xf5, 0xfa, 0xfa),
                Tone::Faint | Tone::Key => (0xa9, 0xc0, 0xc9),
                Tone::Active => (0x6f, 0xe0, 0xbd),
                Tone::Number => (0xe6, 0xdc, 0xc8),
                Tone::Literal => (0xc5, 0xd3, 0x9a),
                Tone::Danger => (0xff, 0xb4, 0xab),
                Tone::Care => (0xf7, 0xbd, 0x4a),
                Tone::Picture => (0x3f, 0x9a, 0x93),
            }
        } else {
            match tone {
                Tone::Plain => (0x1c, 0x2b, 0x31),
                Tone::Heading => (0x06, 0x14, 0x1a),
                Tone::Faint | Tone::Key => (0x3b, 0x54, 0x5d),
                Tone::Active => (0x00, 0x56, 0x46),
                Tone::Number => (0x53, 0x3f, 0x16),
                Tone::Literal => (0x3b, 0x50, 0x0c),
                Tone::Danger => (0x96, 0x1d, 0x12),
                Tone::Care => (0x73, 0x45, 0x00),
                Tone::Picture => (0x2a, 0x7f, 0x78),
            }
        }
    }

    /// Chosen by hand from the 256 colours, so that the grounds stay apart.
    fn ground_index(self, ground: Ground) -> u8 {
        let deep = self.name == ThemeName::Deep;
        match ground {
            Ground::Air if deep => 233,
            Ground::Shade if deep => 235,
            Ground::Water if deep => 23,
            Ground::Strip if deep => 24,
            Ground::Selected if deep => 238,
            Ground::Cell if deep => 240,
            Ground::Air => 231,
            Ground::Shade => 255,
            Ground::Water => 195,
            Ground::Strip => 159,
            Ground::Selected => 158,
            Ground::Cell => 122,
        }
    }

    fn tone_index(self, tone: Tone) -> u8 {
        if self.name == ThemeName::Deep {
            match tone {
                Tone::Plain => 255,
                Tone::Heading => 231,
                Tone::Faint | Tone::Key => 252,
                Tone::Active => 158,
                Tone::Number => 230,
                Tone::Literal => 193,
                Tone::Danger => 224,
                Tone::Care => 222,
                Tone::Picture => 73,
            }
        } else {
            match tone {
                Tone::Plain => 234,
                Tone::Heading => 16,
                Tone::Faint | Tone::Key => 238,
                Tone::Active => 22,
                Tone::Number => 52,
                Tone::Literal => 22,
                Tone::Danger => 88,
                Tone::Care => 58,
                Tone::Picture => 30,
            }
        }
    }
}

fn rgb((r, g, b): Rgb) -> Color {
    Color::Rgb(r, g, b)
}

#[cfg(test)]
mod tests {
    use super::*;

    const GROUNDS: [Ground; 6] = [
        Ground::Air,
        Ground::Shade,
        Ground::Water,
        Ground::Strip,
        Ground::Selected,
        Ground::Cell,
    ];
    const TEXTS: [Tone; 9] = [
        Tone::Plain,
        Tone::Heading,
        Tone::Faint,
        Tone::Active,
        Tone::Number,
        Tone::Literal,
        Tone::Danger,
        Tone::Care,
        Tone::Key,
    ];

    /// Colours of the 256 from 16 on, as xterm defines them.
    fn xterm(index: u8) -> Rgb {
        if index >= 232 {
            let grey = 8 + 10 * (index - 232);
            return (grey, grey, grey);
        }
        let level = |n: u8| if n == 0 { 0 } else { 55 + 40 * n };
        let n = index - 16;
        (level(n / 36), level(n / 6 % 6), level(n % 6))
    }

    fn luminance(colour: Color) -> f64 {
        let (r, g, b) = match colour {
            Color::Rgb(r, g, b) => (r, g, b),
            Color::Indexed(index) => xterm(index),
            other => panic!("{other:?} has no known luminance"),
        };
        let linear = |c: u8| {
            let c = f64::from(c) / 255.0;
            if c <= 0.040_45 {
                c / 12.92
            } else {
                ((c + 0.055) / 1.055).powf(2.4)
            }
        };
        0.2126 * linear(r) + 0.7152 * linear(g) + 0.0722 * linear(b)
    }

    fn contrast(style: Style) -> f64 {
        let (a, b) = (
            luminance(style.fg.expect("fg")),
            luminance(style.bg.expect("bg")),
        );
        (a.max(b) + 0.05) / (a.min(b) + 0.05)
    }

    #[test]
    fn every_text_is_readable_on_every_ground() {
        let mut bad = Vec::new();
        for name in [ThemeName::Deep, ThemeName::Shoal] {
            for depth in [Depth::True, Depth::Indexed] {
                let theme = Theme { name, depth };
                for ground in GROUNDS {
                    for tone in TEXTS {
                        let contrast = contrast(theme.style(ground, tone));
                        if contrast < 4.5 {
                            bad.push(format!(
                                "{name:?} {depth:?} {tone:?} on {ground:?}: {contrast:.2}"
                            ));
                        }
                    }
                }
            }
        }
        assert!(bad.is_empty(), "{bad:#?}");
    }

    #[test]
    fn grounds_stay_apart_at_every_depth() {
        for name in [ThemeName::Deep, ThemeName::Shoal] {
            for depth in [Depth::True, Depth::Indexed] {
                let theme = Theme { name, depth };
                let colours: std::collections::HashSet<_> =
                    GROUNDS.iter().map(|ground| theme.ground(*ground)).collect();
                assert_eq!(colours.len(), GROUNDS.len());
            }
        }
        let plain = Theme {
            name: ThemeName::Plain,
            depth: Depth::True,
        };
        assert_eq!(plain.style(Ground::Air, Tone::Danger).fg, None);
    }
}
