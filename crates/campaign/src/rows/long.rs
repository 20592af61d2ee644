//! Eight hours in some minutes: a thousand entries, fifty sources opened and closed, a live result, links that are lost and
//! come again; memory and open files stay flat.

use std::time::Duration;

use rustix::process::Signal;

use crate::field::{Field, handles, memory, port, signal, until};
use crate::screen::Screen;
use crate::tally::Tally;

const ENTRIES: usize = 1_000;

/// Tries a long session.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    let home = field.folder("home");
    let place = field.folder("long");
    let path = place.join("books.db");
    let file = rusqlite::Connection::open(&path).expect("a file");
    file.execute_batch(
        "create table t as with recursive n(i) as (select 1 union all select i + 1 from n where i < 3000)
         select i, 'word ' || i as word from n;",
    )
    .expect("filled");
    let mut figures = Vec::new();
    let source = path.display().to_string();
    let mut screen = Screen::open(field, &home, &[&source], 42, 142);
    let came = session(&mut screen, &source, &mut figures);
    tally.count("a thousand entries, fifty sources", came);
    signal(screen.pid(), Signal::TERM);
    screen.ended(Duration::from_secs(5));
    if let (Some(first), Some(last)) =
        (figures.get(1), figures.get(figures.len().saturating_sub(1)))
    {
        let (_, first_memory, first_handles): &(String, u64, usize) = first;
        let (_, last_memory, last_handles) = last;
        // A thousand entries are kept, each a result of some kilobytes.
        let grown = last_memory.saturating_sub(*first_memory);
        tally.count(
            "memory",
            (grown < 120)
                .then_some(())
                .ok_or_else(|| format!("grew by {grown} MB")),
        );
        let more = last_handles.saturating_sub(*first_handles);
        tally.count(
            "open files",
            (more < 12)
                .then_some(())
                .ok_or_else(|| format!("{more} more: {figures:?}")),
        );
    }
    for (what, memory, handles) in figures {
        tally
            .figures
            .push(format!("{what}: {memory} MB, {handles} files"));
        tally.peak = tally.peak.max(memory);
    }
    lost_links(field, &mut tally);
    tally
}

fn session(
    screen: &mut Screen,
    source: &str,
    figures: &mut Vec<(String, u64, usize)>,
) -> Result<(), String> {
    screen.until("Try ")?;
    let mut look = |screen: &Screen, what: String| {
        figures.push((what, memory(screen.pid()).1, handles(screen.pid())));
    };
    look(screen, "at the start".into());
    for round in 0..ENTRIES {
        screen.types(&format!(
            "select {round} + 100000 as mark, * from t limit 200;\r"
        ));
        if round % 20 == 19 {
            screen.until(&(round + 100_000).to_string())?;
        }
        if round % 250 == 99 {
            look(screen, format!("{} entries", round + 1));
        }
    }
    screen.types("/live 1\r");
    for round in 0..50 {
        screen.types(&format!("\x1b\x15/open {source}\r"));
        // What is typed before belongs to the session that was in front.
        screen.until("Try ")?;
        screen.types(&format!("select {round} + 200000 as mark;\r"));
        screen.until(&(round + 200_000).to_string())?;
        screen.types("/close\r");
        until(Duration::from_millis(120), || false);
        screen.types("\x1b");
    }
    until(Duration::from_secs(3), || false);
    look(screen, "fifty sources later".into());
    Ok(())
}

/// A link that is lost twenty times comes again twenty times, and leaves nothing open.
fn lost_links(field: &Field, tally: &mut Tally) {
    let Some(server) = port("postgres") else {
        tally
            .left_out
            .push("lost links: PostgreSQL is not here".into());
        return;
    };
    let home = field.folder("lost-home");
    let address = format!("postgres://haven@127.0.0.1:{server}/postgres");
    let mut screen = Screen::open(field, &home, &[&address], 42, 142);
    let mut first = 0;
    let came = screen.until("Try ").and_then(|_| {
        for round in 0..20 {
            // The server ends the session that asks for it.
            screen.types("select pg_terminate_backend(pg_backend_pid());\r");
            screen.when("the loss", |text| {
                text.contains("lost") || text.contains("terminat")
            })?;
            screen.types("\x1b\x15/reopen\r");
            until(Duration::from_millis(300), || false);
            screen.types(&format!("\x1b\x15select {round} + 300000 as mark;\r"));
            screen.until(&(round + 300_000).to_string())?;
            if round == 1 {
                first = handles(screen.pid());
            }
        }
        let last = handles(screen.pid());
        tally.figures.push(format!(
            "files after 2 and 20 lost links: {first} and {last}"
        ));
        (last <= first + 4)
            .then_some(())
            .ok_or_else(|| format!("{first} files became {last}"))
    });
    tally.count("twenty lost links", came);
}
