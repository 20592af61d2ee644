//! The arrival card: where you are, what is different from last time or unusual, what is here, and three
//! things to try next. Also everything about where you are, for `/bearings`.

use idle_tide_core::{Catalog, Kind, Object};
use idle_tide_draw::picture::{counted, grouped};
use idle_tide_engines::{Access, Bearings, LinkState, Proof, ServerBearings};

use crate::page::{Line, Page, Tone};
use crate::settings::{Visit, Writes};

/// How the link to a server is protected, in a few words with their tone.
pub fn link_words(server: &ServerBearings) -> (String, Tone) {
    match &server.link {
        LinkState::Socket => ("local socket".into(), Tone::Faint),
        LinkState::Encrypted {
            version,
            proof: Proof::Name,
        } => (format!("{version}, verified"), Tone::Faint),
        LinkState::Encrypted {
            version,
            proof: Proof::Authority,
        } => (
            format!("{version}, its authority verified, not its name"),
            Tone::Faint,
        ),
        LinkState::Encrypted {
            version,
            proof: Proof::None,
        } if server.local => (version.clone(), Tone::Faint),
        LinkState::Encrypted { version, .. } => {
            (format!("{version}, server not verified"), Tone::Care)
        }
        LinkState::Open if server.local => ("not encrypted".into(), Tone::Faint),
        LinkState::Open => ("not encrypted".into(), Tone::Danger),
    }
}

/// How writes are treated, in the words of the bearings.
pub fn writes_words(writes: Writes, access: &Access) -> &'static str {
    match (access, writes) {
        (Access::ReadOnly(_), _) | (_, Writes::None) => "reads only",
        (_, Writes::Ask) => "looks at changes first",
        (_, Writes::Free) => "writes free",
    }
}

fn ago(seconds: u64) -> String {
    match seconds {
        0..120 => "a moment ago".into(),
        120..7_200 => format!("{} minutes ago", seconds / 60),
        7_200..172_800 => format!("{} hours ago", seconds / 3_600),
        _ => format!("{} days ago", seconds / 86_400),
    }
}

/// What is different from the last visit, in whole sentences; empty when nothing is.
fn differences(last: &Visit, now: &Visit) -> Vec<String> {
    let mut list = Vec::new();
    if !last.identity.is_empty() && last.identity != now.identity {
        list.push(format!(
            "Another server answers than last time under this name: it is {}, and was {}.",
            now.identity, last.identity
        ));
    }
    if !last.user.is_empty() && last.user != now.user {
        list.push(format!(
            "You are {} now; last time you were {}.",
            now.user, last.user
        ));
    }
    if last.place != now.place {
        list.push(format!("Last time this name led to {}.", last.place));
    }
    if last.server != now.server {
        list.push(format!(
            "{} answers; last time it was {}.",
            now.server, last.server
        ));
    }
    if last.tables != now.tables {
        list.push(format!(
            "There are {} now; last time there were {}.",
            counted(now.tables, "table"),
            last.tables
        ));
    }
    list
}

/// The card. `last` is the last visit under this name, `left_behind` what a program that ended badly held there.
pub fn card(
    source: &str,
    bearings: &Bearings,
    writes: Writes,
    catalog: &Catalog,
    last: Option<&Visit>,
    now: &Visit,
    left_behind: Option<&str>,
) -> Page {
    let mut page = Page::new();
    page.line(
        Line::new()
            .and(Tone::Heading, source.to_string())
            .and(Tone::Faint, "   ")
            .and(
                Tone::Plain,
                format!("{} {}", bearings.family, bearings.version),
            ),
    );
    say_where(&mut page, bearings);
    page.gap();
    say_visit(&mut page, last, now);
    if let Some(words) = left_behind {
        page.say(Tone::Care, words);
    }
    for warning in &bearings.warnings {
        page.say(Tone::Care, warning.clone());
    }
    match &bearings.access {
        Access::ReadOnly(why) => page.say(Tone::Plain, why.clone()),
        Access::Writable => page.line(
            Line::new()
                .and(
                    Tone::Plain,
                    format!("This session {}.", writes_words(writes, &bearings.access)),
                )
                .and(Tone::Faint, " /writes changes that."),
        ),
    };
    page.gap();
    if bearings.server.is_some() && bearings.database.is_empty() {
        say_no_database(&mut page);
        return page;
    }
    let has_collections = catalog.tables().any(|o| o.kind == Kind::Collection);
    let documents = has_collections || bearings.family == "documents";
    page.line(
        Line::new()
            .column(Tone::Heading, "Here", 8)
            .and(Tone::Plain, kinds(catalog, documents).join(" · ")),
    );
    let mut largest: Vec<&Object> = catalog
        .tables()
        .filter(|o| matches!(o.kind, Kind::Table | Kind::Collection))
        .collect();
    largest.sort_by_key(|object| std::cmp::Reverse(object.rows.unwrap_or(0)));
    say_largest(&mut page, &largest);
    page.gap();
    say_tries(&mut page, tries(&largest, documents));
    page
}

/// Where it is, how the link is protected, and who one is there.
fn say_where(page: &mut Page, bearings: &Bearings) {
    match &bearings.server {
        None => {
            let place = bearings
                .place
                .as_deref()
                .unwrap_or("in memory; gone when the session ends");
            page.say(Tone::Faint, place.to_string());
        }
        Some(server) => {
            let mut line = Line::new().and(Tone::Faint, server.place.clone());
            if !server.way.is_empty() {
                line = line.and(Tone::Faint, format!(" {}", server.way));
            }
            let (words, tone) = link_words(server);
            line = line.and(tone, format!("   {words}"));
            page.line(line);
            let mut line = Line::new().and(Tone::Plain, format!("You are {}", server.user));
            if let Some(role) = &server.role {
                line = line.and(Tone::Plain, format!(" in the role {role}"));
            }
            line = match server.all_powerful {
                true => line.and(Tone::Care, ", who may do everything here."),
                false => line.and(Tone::Plain, "."),
            };
            page.line(line);
        }
    }
}

/// The last visit, and what is different now.
fn say_visit(page: &mut Page, last: Option<&Visit>, now: &Visit) {
    match last {
        None => page.say(Tone::Plain, "Your first visit."),
        Some(last) => {
            let when = format!("You were here {}.", ago(now.at.saturating_sub(last.at)));
            let different = differences(last, now);
            if different.is_empty() {
                page.line(
                    Line::new()
                        .and(Tone::Plain, when)
                        .and(Tone::Faint, " Nothing is different."),
                )
            } else {
                page.say(Tone::Plain, when);
                for sentence in different {
                    page.say(Tone::Care, sentence);
                }
                page
            }
        }
    };
}

/// What to do where no database is chosen yet.
fn say_no_database(page: &mut Page) {
    page.line(
        Line::new()
            .column(Tone::Heading, "Here", 8)
            .and(Tone::Care, "No database is chosen yet."),
    );
    page.gap();
    for (at, (what, why)) in [
        ("/databases", "lists them"),
        ("/use NAME", "goes to one"),
        ("/roles", "users of this server, as far as you may see them"),
    ]
    .into_iter()
    .enumerate()
    {
        page.line(
            Line::new()
                .column(Tone::Heading, if at == 0 { "Try" } else { "" }, 8)
                .column(Tone::Active, what, 13)
                .and(Tone::Faint, why),
        );
    }
}

/// How much of each kind is here.
fn kinds(catalog: &Catalog, documents: bool) -> Vec<String> {
    let count = |kind: Kind| catalog.tables().filter(|o| o.kind == kind).count() as u64;
    let mut parts = vec![match documents {
        true => counted(count(Kind::Collection), "collection"),
        false => {
            let virtual_ones = count(Kind::VirtualTable) + count(Kind::ForeignTable);
            counted(count(Kind::Table) + virtual_ones, "table")
        }
    }];
    let views = count(Kind::View) + count(Kind::MaterializedView);
    if views > 0 {
        parts.push(counted(views, "view"));
    }
    let indexes: usize = catalog
        .tables()
        .map(|o| o.indexes.iter().filter(|i| !i.automatic).count())
        .sum();
    if indexes > 0 {
        parts.push(if indexes == 1 {
            "1 index".into()
        } else {
            format!("{indexes} indexes")
        });
    }
    let triggers = catalog
        .objects
        .iter()
        .filter(|o| o.kind == Kind::Trigger)
        .count() as u64;
    if triggers > 0 {
        parts.push(counted(triggers, "trigger"));
    }
    parts
}

/// The largest tables or collections with their rows.
fn say_largest(page: &mut Page, largest: &[&Object]) {
    let width = largest
        .iter()
        .take(6)
        .map(|o| o.name.chars().count())
        .max()
        .unwrap_or(0);
    for object in largest.iter().take(6) {
        let rows = object.rows.map_or_else(
            || "not counted".into(),
            |rows| match object.estimated {
                true => format!("≈ {}", grouped(rows)),
                false => grouped(rows),
            },
        );
        let comment = object.comment.clone().unwrap_or_default();
        page.line(
            Line::new()
                .and(Tone::Plain, "        ")
                .column(Tone::Active, object.name.clone(), width + 3)
                .and(Tone::Number, format!("{rows:>10}"))
                .and(Tone::Faint, format!("   {comment}")),
        );
    }
}

/// What could be tried next, and what it does.
fn tries(largest: &[&Object], documents: bool) -> [(String, String); 3] {
    let example = largest
        .first()
        .map_or("NAME", |object| object.name.as_str());
    if documents && largest.is_empty() {
        [
            ("insert into NAME { ... };", "makes a first collection"),
            ("/help flows", "the language, on one page"),
            ("/load FILE", "brings a file of documents or rows in"),
        ]
        .map(|(what, why)| (what.to_string(), why.to_string()))
    } else if documents {
        [
            (
                format!("/shape {example}"),
                "every path, its kinds, how often it is there".to_string(),
            ),
            (
                format!("from {example} limit 20;"),
                "Enter after the semicolon runs it".to_string(),
            ),
            (
                "/help flows".to_string(),
                "the language, on one page".to_string(),
            ),
        ]
    } else if largest.is_empty() {
        [
            ("create table …;", "makes a first table"),
            ("/help", "the guide; F1 opens it while you type"),
            (
                "/load FILE",
                "brings a file of CSV, JSON or Parquet in as a table",
            ),
        ]
        .map(|(what, why)| (what.to_string(), why.to_string()))
    } else {
        [
            (
                "/tables".to_string(),
                "every table, with its rows".to_string(),
            ),
            (
                format!("/about {example}"),
                "its columns, keys, links and indexes".to_string(),
            ),
            (
                format!("select * from {example};"),
                "Enter after the semicolon runs it".to_string(),
            ),
        ]
    }
}

fn say_tries(page: &mut Page, tries: [(String, String); 3]) {
    let width = tries
        .iter()
        .map(|(what, _)| what.chars().count())
        .max()
        .unwrap_or(0);
    for (at, (what, why)) in tries.into_iter().enumerate() {
        page.line(
            Line::new()
                .column(Tone::Heading, if at == 0 { "Try" } else { "" }, 8)
                .column(Tone::Active, what, width + 3)
                .and(Tone::Faint, why),
        );
    }
}

/// Everything about where you are.
pub fn bearings_page(source: &str, bearings: &Bearings, writes: Writes) -> Page {
    let mut page = Page::new();
    let mut row = |name: &str, value: String, tone: Tone| {
        page.line(Line::new().column(Tone::Faint, name, 22).and(tone, value));
    };
    row("source", source.to_string(), Tone::Heading);
    let database = match bearings.database.as_str() {
        "" => ("none chosen; /databases lists them".to_string(), Tone::Care),
        name => (name.to_string(), Tone::Plain),
    };
    row("database", database.0, database.1);
    let within = if bearings.server.is_some() {
        ""
    } else {
        ", within this program"
    };
    row(
        "server",
        format!("{} {}{within}", bearings.family, bearings.version),
        Tone::Plain,
    );
    row(
        "place",
        bearings.place.clone().unwrap_or_else(|| "memory".into()),
        Tone::Plain,
    );
    if let Some(server) = &bearings.server {
        if !server.way.is_empty() {
            row("way in", server.way.clone(), Tone::Plain);
        }
        let (words, tone) = link_words(server);
        row(
            "link",
            words,
            if tone == Tone::Faint {
                Tone::Plain
            } else {
                tone
            },
        );
        row("user", server.user.clone(), Tone::Plain);
        if let Some(role) = &server.role {
            row("role", role.clone(), Tone::Plain);
        }
        if server.all_powerful {
            row("", "may do everything on this server".into(), Tone::Care);
        }
        if !server.search_path.is_empty() {
            row("search path", server.search_path.join(", "), Tone::Plain);
        }
        row("time zone", server.time_zone.clone(), Tone::Plain);
        row("identity", server.identity.clone(), Tone::Plain);
    }
    row(
        "writes",
        writes_words(writes, &bearings.access).to_string(),
        Tone::Plain,
    );
    if let Access::ReadOnly(why) = &bearings.access {
        row("", why.clone(), Tone::Faint);
    }
    match bearings.transaction {
        Some(since) => row(
            "transaction",
            format!(
                "open for {}",
                idle_tide_draw::picture::lasting(since.elapsed())
            ),
            Tone::Care,
        ),
        None => row("transaction", "none".into(), Tone::Plain),
    }
    for (name, value) in &bearings.facts {
        row(name, value.clone(), Tone::Plain);
    }
    for warning in &bearings.warnings {
        row("", warning.clone(), Tone::Care);
    }
    page
}
