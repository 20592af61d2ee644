//! Texts: `$concat`, `$split`, `$trim` and their like.

use super::*;

/// `$concat`.
pub(super) fn concat(call: &Call<'_>) -> Answer {
    let mut out = String::new();
    for value in call.several()? {
        match call.text_of(&value, 16702)? {
            Some(text) => out.push_str(&text),
            None => return some(Datum::Null),
        }
    }
    some(out.into())
}

/// `$toLower`, `$toUpper`.
pub(super) fn case(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let value = call.one()?;
    let text = value.as_ref().and_then(convert::text).unwrap_or_default();
    some(
        if name == "$toLower" {
            text.to_ascii_lowercase()
        } else {
            text.to_ascii_uppercase()
        }
        .into(),
    )
}

/// `$strLenCP`.
pub(super) fn length(call: &Call<'_>) -> Answer {
    match call.one()? {
        Some(Datum::Text(text)) => some(Datum::integer(text.chars().count() as i64)),
        other => Err(bad(
            34471,
            format!(
                "$strLenCP requires a string argument, found: {}",
                other.as_ref().map_or("missing", type_name)
            ),
        )),
    }
}

/// `$substrCP`.
pub(super) fn part(call: &Call<'_>) -> Answer {
    let list = call.exactly(3)?;
    let text = list[0].as_ref().and_then(convert::text).unwrap_or_default();
    let whole = |at: usize| {
        list[at]
            .as_ref()
            .and_then(Datum::as_i64)
            .and_then(|n| usize::try_from(n).ok())
    };
    match (whole(1), whole(2)) {
        (Some(from), Some(count)) => some(convert::characters(&text, from, count).into()),
        _ => Err(bad(
            34452,
            "$substrCP: lengths and starts must be integers from 0 on",
        )),
    }
}

/// `$indexOfCP`.
pub(super) fn place(call: &Call<'_>) -> Answer {
    let list = call.several()?;
    let (Some(text), Some(part)) = (
        call.text_of(&list[0], 40093)?,
        call.text_of(list.get(1).unwrap_or(&None), 40094)?,
    ) else {
        return some(Datum::Null);
    };
    some(Datum::integer(
        text.find(&part)
            .map_or(-1, |at| text[..at].chars().count() as i64),
    ))
}

/// `$split`.
pub(super) fn split(call: &Call<'_>) -> Answer {
    let list = call.exactly(2)?;
    let (Some(text), Some(by)) = (
        call.text_of(&list[0], 40085)?,
        call.text_of(&list[1], 40086)?,
    ) else {
        return some(Datum::Null);
    };
    if by.is_empty() {
        return Err(bad(40087, "$split requires a non-empty separator"));
    }
    some(Datum::List(text.split(&by).map(Datum::from).collect()))
}

/// `$replaceAll`, `$replaceOne`.
pub(super) fn replace(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let (input, find, by) = (
        call.text_of(&call.named("input")?, 51746)?,
        call.text_of(&call.named("find")?, 51745)?,
        call.text_of(&call.named("replacement")?, 51744)?,
    );
    let (Some(input), Some(find), Some(by)) = (input, find, by) else {
        return some(Datum::Null);
    };
    some(
        if name == "$replaceAll" {
            input.replace(&find, &by)
        } else {
            input.replacen(&find, &by, 1)
        }
        .into(),
    )
}

/// `$trim`, `$ltrim`, `$rtrim`.
pub(super) fn trim(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let Some(text) = call.text_of(&call.named("input")?, 50699)? else {
        return some(Datum::Null);
    };
    let chars: Vec<char> = match call.text_of(&call.named("chars")?, 50700)? {
                Some(chars) => chars.chars().collect(),
                None => "\0\t\n\u{b}\u{c}\r \u{a0}\u{1680}\u{2000}\u{2001}\u{2002}\u{2003}\u{2004}\u{2005}\u{2006}\u{2007}\u{2008}\u{2009}\u{200a}".chars().collect(),
            };
    let is = |c: char| chars.contains(&c);
    some(
        match name {
            "$trim" => text.trim_matches(is),
            "$ltrim" => text.trim_start_matches(is),
            _ => text.trim_end_matches(is),
        }
        .into(),
    )
}

/// `$regexMatch`.
pub(super) fn regex_match(call: &Call<'_>) -> Answer {
    let Some(text) = call.text_of(&call.named("input")?, 51104)? else {
        return truth_of(false);
    };
    let (pattern, mut options) = match call.named("regex")? {
        Some(Datum::Regex(both)) => *both,
        Some(Datum::Text(text)) => (text.to_string(), String::new()),
        _ => return truth_of(false),
    };
    if let Some(more) = call.text_of(&call.named("options")?, 51106)? {
        options.push_str(&more);
    }
    truth_of(compiled(&pattern, &options)?.is_match(&text))
}
