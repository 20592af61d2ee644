//! The code page that a collation writes text of one byte a character in (MS-TDS 2.2.5.1.2).

use std::borrow::Cow;

use encoding_rs::{
    BIG5, EUC_KR, Encoding, GBK, SHIFT_JIS, WINDOWS_874, WINDOWS_1250, WINDOWS_1251, WINDOWS_1252,
    WINDOWS_1253, WINDOWS_1254, WINDOWS_1255, WINDOWS_1256, WINDOWS_1257, WINDOWS_1258,
};
use oem_cp::code_table::{DECODING_TABLE_CP437, DECODING_TABLE_CP850};

enum Page {
    Utf8,
    Encoded(&'static Encoding),
    Oem(&'static [char; 128]),
}

/// By the sort order of older collations; 0 where there is none.
fn of_sort(sort: u8) -> Option<Page> {
    Some(match sort {
        30..=35 => Page::Oem(&DECODING_TABLE_CP437),
        40..=49 | 55..=61 => Page::Oem(&DECODING_TABLE_CP850),
        80..=98 => Page::Encoded(WINDOWS_1250),
        104..=108 => Page::Encoded(WINDOWS_1251),
        112..=114 | 120..=124 => Page::Encoded(WINDOWS_1253),
        128..=130 => Page::Encoded(WINDOWS_1254),
        136..=138 => Page::Encoded(WINDOWS_1255),
        144..=146 => Page::Encoded(WINDOWS_1256),
        152..=160 => Page::Encoded(WINDOWS_1257),
        192 | 193 | 200 => Page::Encoded(SHIFT_JIS),
        194 | 195 | 201 => Page::Encoded(EUC_KR),
        196 | 197 | 202 => Page::Encoded(BIG5),
        198 | 199 | 203 => Page::Encoded(GBK),
        204..=206 => Page::Encoded(WINDOWS_874),
        50..=54 | 71..=75 | 183..=186 | 210..=217 => Page::Encoded(WINDOWS_1252),
        _ => return None,
    })
}

/// By the language of newer ones.
fn of_language(lcid: u32) -> Page {
    Page::Encoded(match (lcid & 0x3ff, lcid & 0xffff) {
        (0x04, 0x0404 | 0x0c04 | 0x1404) => BIG5,
        (0x04, _) => GBK,
        (0x1a, 0x0c1a | 0x1c1a | 0x201a) => WINDOWS_1251,
        (0x2c, 0x082c) | (0x43, 0x0843) => WINDOWS_1251,
        (0x05 | 0x0e | 0x15 | 0x18 | 0x1a | 0x1b | 0x1c | 0x24 | 0x42, _) => WINDOWS_1250,
        (0x02 | 0x19 | 0x22 | 0x23 | 0x2f | 0x3f | 0x40 | 0x44 | 0x50, _) => WINDOWS_1251,
        (0x08, _) => WINDOWS_1253,
        (0x1f | 0x2c | 0x43, _) => WINDOWS_1254,
        (0x0d, _) => WINDOWS_1255,
        (0x01 | 0x20 | 0x29, _) => WINDOWS_1256,
        (0x25..=0x27, _) => WINDOWS_1257,
        (0x2a, _) => WINDOWS_1258,
        (0x1e, _) => WINDOWS_874,
        (0x11, _) => SHIFT_JIS,
        (0x12, _) => EUC_KR,
        _ => WINDOWS_1252,
    })
}

fn page(collation: [u8; 5]) -> Page {
    let info = u32::from_le_bytes([collation[0], collation[1], collation[2], collation[3]]);
    if info & 1 << 26 != 0 {
        return Page::Utf8;
    }
    of_sort(collation[4]).unwrap_or_else(|| of_language(info & 0xf_ffff))
}

/// Text in the code page of a collation; `None` where the bytes are no text in it.
pub(crate) fn decode(bytes: &[u8], collation: [u8; 5]) -> Option<Cow<'_, str>> {
    if bytes.is_ascii() {
        return std::str::from_utf8(bytes).ok().map(Cow::Borrowed);
    }
    match page(collation) {
        Page::Utf8 => std::str::from_utf8(bytes).ok().map(Cow::Borrowed),
        Page::Encoded(encoding) => {
            encoding.decode_without_bom_handling_and_without_replacement(bytes)
        }
        Page::Oem(table) => Some(Cow::Owned(oem_cp::decode_string_complete_table(
            bytes, table,
        ))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_read_in_the_page_of_its_collation() {
        for (collation, bytes, text) in [
            // Latin1_General, a sort order of its own, Cyrillic, Japanese, UTF-8.
            ([0x09, 0x04, 0xd0, 0x00, 0x34], &[0xe9, 0x80][..], "é€"),
            ([0x09, 0x04, 0xd0, 0x00, 0x1e], &[0x82][..], "é"),
            ([0x19, 0x04, 0xd0, 0x00, 0x00], &[0xc6][..], "Ж"),
            ([0x11, 0x04, 0xd0, 0x00, 0x00], &[0x8d, 0x60][..], "港"),
            (
                [0x09, 0x04, 0xd0, 0x04, 0x00],
                &[0xe6, 0xb8, 0xaf][..],
                "港",
            ),
            ([0; 5], b"plain", "plain"),
        ] {
            assert_eq!(
                decode(bytes, collation).as_deref(),
                Some(text),
                "{collation:x?}"
            );
        }
        assert_eq!(decode(&[0xe6, 0xb8], [0x09, 0x04, 0xd0, 0x04, 0x00]), None);
    }
}
