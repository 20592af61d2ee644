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

/// `$strLenCP`, `$strLenBytes`.
pub(super) fn length(call: &Call<'_>) -> Answer {
    match call.one()? {
        Some(Datum::Text(text)) => some(Datum::integer(if call.name == "$strLenCP" {
            text.chars().count()
        } else {
            text.len()
        } as i64)),
        other => Err(bad(
            34471,
            format!(
                "{} requires a string argument, found: {}",
                call.name,
                other.as_ref().map_or("missing", type_name)
            ),
        )),
    }
}

/// `$substrBytes`, `$substr`: a part by bytes, which must not cut a character; a negative length goes to the end.
pub(super) fn byte_part(call: &Call<'_>) -> Answer {
    let list = call.exactly(3)?;
    let text = list[0].as_ref().and_then(convert::text).unwrap_or_default();
    let whole = |at: usize| list[at].as_ref().and_then(convert::whole_part);
    let (Some(from), Some(count)) = (whole(1), whole(2)) else {
        return Err(bad(
            16034,
            format!("{}: starts and lengths must be numbers", call.name),
        ));
    };
    let from = usize::try_from(from).map_err(|_| {
        bad(
            50752,
            format!("{}: starting index must be non-negative", call.name),
        )
    })?;
    if from >= text.len() {
        return some("".into());
    }
    let end = usize::try_from(count).map_or(text.len(), |n| from.saturating_add(n).min(text.len()));
    text.get(from..end)
        .map(|part| Some(part.into()))
        .ok_or_else(|| {
            bad(
                28656,
                format!("{}: Invalid range, a character would be cut", call.name),
            )
        })
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

/// `$indexOfCP`, `$indexOfBytes`: where a part begins, at or after a start and before an end.
pub(super) fn place(call: &Call<'_>) -> Answer {
    let list = call.several()?;
    let (Some(text), Some(part)) = (
        call.text_of(&list[0], 40093)?,
        call.text_of(list.get(1).unwrap_or(&None), 40094)?,
    ) else {
        return some(Datum::Null);
    };
    let characters = call.name == "$indexOfCP";
    let bound = |at: usize| match list.get(at).map(|v| v.as_ref().and_then(Datum::as_i64)) {
        None => Ok(None),
        Some(Some(n)) if n >= 0 => {
            let n = usize::try_from(n).unwrap_or(usize::MAX);
            Ok(Some(if characters {
                text.char_indices().nth(n).map_or(text.len(), |(at, _)| at)
            } else {
                n.min(text.len())
            }))
        }
        Some(_) => Err(bad(
            40097,
            format!(
                "{} needs whole numbers from 0 on as start and end",
                call.name
            ),
        )),
    };
    let (from, to) = (bound(2)?.unwrap_or(0), bound(3)?.unwrap_or(text.len()));
    let found = text
        .get(from..to)
        .and_then(|within| within.find(&part))
        .map(|at| at + from);
    some(Datum::integer(found.map_or(-1, |at| {
        if characters {
            text[..at].chars().count() as i64
        } else {
            at as i64
        }
    })))
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

/// `$regexMatch`, `$regexFind`, `$regexFindAll`.
pub(super) fn regex(call: &Call<'_>) -> Answer {
    let nothing = || {
        Ok(Some(match call.name {
            "$regexMatch" => Datum::Boolean(false),
            "$regexFind" => Datum::Null,
            _ => Datum::List(Vec::new()),
        }))
    };
    let Some(text) = call.text_of(&call.named("input")?, 51104)? else {
        return nothing();
    };
    let (pattern, mut options) = match call.named("regex")? {
        Some(Datum::Regex(both)) => *both,
        Some(Datum::Text(text)) => (text.to_string(), String::new()),
        _ => return nothing(),
    };
    if let Some(more) = call.text_of(&call.named("options")?, 51106)? {
        options.push_str(&more);
    }
    let pattern = compiled(&pattern, &options)?;
    let shown = |found: regex::Captures<'_>| {
        let whole = found.get(0).map_or(0, |m| m.start());
        let groups = found
            .iter()
            .skip(1)
            .map(|m| m.map_or(Datum::Null, |m| m.as_str().into()));
        let shown = Document::new()
            .with("match", found.get(0).map_or("", |m| m.as_str()))
            .with("idx", Datum::integer(text[..whole].chars().count() as i64))
            .with("captures", Datum::List(groups.collect()));
        Datum::Object(shown)
    };
    some(match call.name {
        "$regexMatch" => Datum::Boolean(pattern.is_match(&text)),
        "$regexFind" => pattern.captures(&text).map_or(Datum::Null, shown),
        _ => Datum::List(pattern.captures_iter(&text).map(shown).collect()),
    })
}

/// `$strcasecmp`: as if both were in capitals.
pub(super) fn compare(call: &Call<'_>) -> Answer {
    let list = call.exactly(2)?;
    let capitals = |at: usize| {
        list[at]
            .as_ref()
            .and_then(convert::text)
            .unwrap_or_default()
            .to_ascii_uppercase()
    };
    some(Datum::Int(capitals(0).cmp(&capitals(1)) as i32))
}
