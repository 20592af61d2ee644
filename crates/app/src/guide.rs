//! The guide: topics made of a few sentences, the table of commands and the table of keys.

use idle_tide_core::limits::LIMITS;
use idle_tide_desk::export::{DRAWINGS, export_drawing};
use idle_tide_desk::{Line, Page, Tone};
use idle_tide_draw::card::{Card, Section};
use idle_tide_lang::command::{COMMANDS, Command};
use idle_tide_lang::dialect::{MARIADB, POSTGRES, SQLITE};

use crate::keys::{Keymap, Place, of};

/// Topics in the guide's order.
pub const TOPICS: &[&str] = &[
    "first steps",
    "arrive",
    "servers",
    "secrets",
    "look around",
    "links",
    "plans",
    "documents",
    "flows",
    "write",
    "statements",
    "errors",
    "entries",
    "read",
    "pictures",
    "live",
    "across",
    "scripts",
    "change",
    "options",
    "take away",
    "conditions",
    "shell",
    "limits",
    "commands",
    "keys",
    "help",
    "one page",
];

#[allow(clippy::too_many_lines)] // A table of text.
fn words(topic: &str) -> &'static [&'static str] {
    match topic {
        "first steps" => &[
            "The line of the tide divides the screen: results above, the place to type below.",
            "Type a statement, end it with a semicolon and press Enter. Without the semicolon Enter begins a new line; F5 runs what is there in any case.",
            "A line that begins with / is a command: the list opens as you type. /tables shows what is here, /about NAME one table in full.",
            "Esc goes from writing to reading and back. What the next keys do stands in the last line, always.",
            "Everything you submit becomes a numbered entry with its result. F3 shows them all.",
            "Ctrl-C stops what runs, or clears the line; Ctrl-D on an empty line leaves. So do the words quit and exit.",
        ],
        "pictures" => &[
            "F8 (/chart) draws the current result. The kind and the columns follow from what is there: a time and a number make a line, a category and a number bars, one number a histogram, two numbers points, two categories a heat map. Keys in the hints change everything: K the kind, V the number, X what goes along, B the category that splits it into series, P the one that makes pictures side by side, H sum, mean or count.",
            "Where several rows fall on one mark they are added up (or averaged, or counted), and the title says so. Where the comment of a column names a unit, (m) or in metres, the title has it, also for a sum, a mean or an extreme of the column. The scale is logarithmic by itself where a linear one would lay most values flat, and that is said; G makes it linear. What is left out, put together or thinned stands below the title: rows without a value, categories without room, more points than columns.",
            "The arrows go from mark to mark; the last line says what it is worth, and Enter shows its rows. F8 goes back to the result. I draws the current column alone (/chart --of COLUMN). A picture follows its result: its filter, and its changes while it is live.",
            "/chart takes the same in words: /chart bars --x port --y kg --by species --how mean --stacked --ordered --log --title TEXT. On a picture it makes another one of the same result.",
            "/export FILE.svg, FILE.pdf or FILE.txt writes it: the same places as on the screen, text as text, lines told apart by their strokes too. Without a screen: idle-tide run SOURCE 'STATEMENT' --chart bars --output FILE.svg.",
        ],
        "live" => &[
            "A statement that runs once more says on its line what differs from before: +2 −1 ~4 since entry 7. D shows it: rows added, removed and changed, old and new side by side. /compare A B compares the results of any two entries, also of different sources; rows are told apart by the key that both have, by the first columns that tell them apart, or by --on COLUMN. --within 0.01 lets numbers differ by so much.",
            "Numbers of one value are the same whatever their kind, and so is a text that is written as the number is; null and an empty text are not. What kinds differ, what only one has and keys that stand twice are told.",
            "W (/live) reads the current result again every 2 seconds; /live 10 every 10. New rows get a +, changed ones a ~ and their cells a colour that fades; how many went, and which, stands above. A single number has its recent course beside it; --trend COLUMN chooses the sum of a column.",
            "/live 5 --until 'n = 0' ends when a row satisfies the condition, --alert 'lag > 10' rings the bell when one begins to. Conditions are those of /filter.",
            "Only what is known to read is read again, in the session in which it was typed, never twice at once and never before what you type. It pauses while a transaction is open (--in-transaction lets it go on), takes longer pauses where the server is slow, and ends with an error. W again, Ctrl-C or /live stop ends it.",
        ],
        "across" => &[
            "/across takes SQL over what is on the screen already: result_3 is the result of entry 3, of whatever source and family, and 'prices.csv' is a file (CSV, JSON, BSON, Parquet, also gzipped): /across select r.port, sum(r.kg * p.price) from result_3 r join 'prices.csv' p on p.species = r.species group by 1",
            "/name 3 landings gives a result a name for that. Tab completes names and columns. Paths of documents are columns, in double quotes where they have dots; the column document is all of it as JSON, for -> and ->>.",
            "The SQL is SQLite's, in a database of its own that is gone afterwards. Only what is named comes in, all rows of it. Decimals and large whole numbers compare and add up exactly; what is multiplied or divided becomes a float.",
            "Without a screen: idle-tide across --from a=SOURCE:'STATEMENT' --from b=SOURCE:'STATEMENT' 'SQL over a and b'.",
        ],
        "scripts" => &[
            "A line that begins with = is worked out on the spot: = 12 * 3.5, = 0.1 + 0.2 (numbers with a point are exact), = date '2031-03-31' - date '2031-03-01', = date '2031-03-01' + 30. The expressions and functions are those of flows; 7 / 2 is 3.5.",
            "= name = value makes a variable: numbers, texts, days, lists [1, 2], objects {tug: 3.5}. fees.tug, fees['tug'] and fees[w] reach a field, list[0] an element. In statements :name stands for it, :fees.tug for a field, in :list for the elements of a list; the value is put in as the server's literal. Flows call the functions of scripts: emit port => tons(kg).",
            "for x in list { ... }, for n in 1..10 { ... }, if a > 1 { ... } else { ... }, def twice(x) = x * 2, print value. Lines end where they break, or with a semicolon; a block that is open goes on in the next line. What stands alone is printed.",
            "rows('statement', {name: value}) gives the rows of a statement as objects, run(...) runs any statement and gives how many rows it changed, result(3) gives the rows of entry 3, show list makes rows of a list. A case, and what stands behind and or or, calls only what is chosen. What sweeps is asked about there too.",
            "/variables shows what there is, /forget takes it away. /run FILE runs a file in which statements, commands and script lines stand one after the other; idle-tide run SOURCE --file FILE does so without a screen. A script is ended after 20 million steps, 256 MB of variables or 10 000 printed lines; Ctrl-C stops it, and an error marks its place.",
        ],
        "arrive" => &[
            "The first line says where you are: source, database, server and version, place, transaction, and how writes are treated.",
            "A database file named on the command line is opened to be read only: not a byte of it or beside it changes. --write opens it for writing, --new makes it, sqlite::memory: is a database in memory.",
            "demo is the practice harbour: made-up data to try things on. demo --fresh makes it anew; demo --into ADDRESS loads it into a database of a server.",
            "F9 shows the sources: what is open, what you saved, and servers that listen on this machine. Several can be open at once; an entry belongs to the source and database it ran on, and running it elsewhere is asked about.",
            "A saved source has a name, an address, a tone (calm, care or danger, which colours the first line), and how writes are treated there.",
        ],
        "servers" => &[
            "An address is postgres://USER@HOST:PORT/DATABASE, mariadb:// (mysql://) or tds:// (mssql://) likewise; every part can be left out. postgres, mariadb or tds alone takes the rest from --host, --port, --user, --database, from the environment (PGHOST and its kin, MYSQL_HOST and its kin, IDLE_TIDE_TDS_HOST and its kin), or from the local socket.",
            "tls=off, try, require, authority or verify in the address says how the link is encrypted. Beyond this machine it is verify unless you say otherwise: the server has to prove its name; with authority it is enough that your authority made the certificate, for whatever name. tls-authority=FILE names your own authority, tls-certificate=FILE and tls-key=FILE a certificate of your own. Several hosts stand in an address with commas between them: the first that answers is taken, with target_session_attrs=read-write the first that takes writes, with read-only the first that does not; /bearings says which one it is.",
            "via=USER@HOST:PORT in the address, or --via, goes through a secure shell: with the agent, the usual key files, via-key=FILE, or a password. Its host key is checked against ~/.ssh/known_hosts (via-known-hosts=FILE); a new one is asked about, a changed one refused.",
            "--through 'COMMAND' lets a command carry the connection on its standard input and output: how one reaches a server in a container that publishes no port.",
            "/use goes to another database; with PostgreSQL over a new connection, so an open transaction is asked about first. /reopen --as USER comes as somebody else, to see what they see; /back returns.",
            "A lost connection is said at once with what is known: a transaction is gone, a write may or may not have happened. Nothing is ever sent twice. /reopen connects anew, with the database, the role and what you set for the session.",
            "What waits for a lock says who holds it and what that one does, where the server tells. The end of a connection on which nothing runs is said when it comes, and with PostgreSQL so is what others send to a channel that the session listens to.",
            "load data local infile 'FILE' sends that file of this machine to a MySQL or MariaDB server, and no other, whatever the server asks for; how much was sent is said.",
            "With servers over the Tabular Data Stream (tds://) what you submit is one batch: variables live in it, a line go ends it, its results become entries one after the other, what it prints stands below. A semicolon at the end says that it is complete.",
            "In a file or in the composer, routines need no special delimiter, and the lines that the servers' backup programs write for one, and inline data, are understood.",
        ],
        "secrets" => &[
            "A password is asked for in a field that shows nothing, and kept in memory only while its source is open. A saved source can name a command that prints it, or use the system's key store.",
            "A password in an address is taken out of it at once; on the command line others on the machine can still read it, so leave it out there.",
            "Passwords in statements (password, identified by, a digest of a text for a secret column) are covered before the statement is shown or kept: :?secret stands in their place, and running it again asks for it. :?NAME in a statement of yours asks in the same way; the value is quoted by the rules of the server and is kept nowhere.",
            "/change-password asks for the new one twice. The drivers hold copies of passwords in their own memory as long as a connection lives.",
        ],
        "look around" => &[
            "F2 shows everything that is here in columns that open to the right: databases, objects by kind, what they are made of, details. Typing narrows the column you are in, by letters in their order; Enter puts the name into the statement; Space opens what can be done with it, copying its name among that.",
            "Lists take a pattern: * stands for any text, ? for one character; without either the name only has to contain it. /find looks through all names and comments.",
            "/about shows one object in full; names are taken as you type them, and what is nearly right is offered. /definition gives the statements that make it again, or, without a name, everything in an order that works in an empty database (grants and owners are not among them).",
            "While you write, the columns of every table in the statement stay in sight above the composer. An arrow says where a column links to. In an insert the column of the value at the cursor is marked.",
            "many beside a table says that joining it multiplies the rows before it: several of its rows may match one of theirs. A count or sum that then takes a thing more than once is said in words, and the list at the cursor (Tab) has the count that takes each once. It is decided from keys alone; where nothing certain is known, nothing is said.",
        ],
        "links" => &[
            "F6 draws the tables and how they hang together: those that refer to the left of those that are referred to. ≡ stands where several rows may refer to the same one, • where it is one row, ○ where a reference may be empty. A dashed line is a guess.",
            "A link is guessed where a column is named like a key of another table (vessel_id, VesselId and callsign for call_sign all count), their types can be compared, and nothing else fits as well. C asks the data how many values match; G hides guesses.",
            "Space on two tables, or /route A B, shows the way between them; N the next one. It says where rows multiply and where rows without a partner are left out. J, or /route at once, puts the join into the statement.",
            "While reading rows, L follows the link of the current cell: from a reference to its row, from a key to the rows that refer to it (counted first where several tables do). The way that led to an entry stands before it; Backspace goes back along it.",
            "/export FILE.svg or FILE.pdf takes the drawing away; what is text in it stays text.",
        ],
        "plans" => &[
            "/plan STATEMENT shows how the server runs it, as a tree, with rows and times where the server tells them and the costly step marked; without a statement, of the current entry. The server's own text stands below.",
            "A statement that reads is run to be measured, in a transaction that may only read (PostgreSQL, MariaDB); --estimate does not run it. One that writes is planned and never run; while a transaction is open nothing is run for a plan.",
        ],
        "documents" => &[
            "docs:PATH opens a file or a folder of JSON, JSON lines or BSON as a database, for reading; --write lets it be changed, --keep-going leaves out what is broken. demo-docs is the practice harbour's own. mongodb:// opens a server; /practice start has one to try.",
            "A result of documents shows their paths as columns, the commonest first, the kind under the name. · is a field that is not there, null is null, ⋯ is an object or a list, with the number of its elements. F4 opens the document as an outline, T there as text.",
            "F6 draws the collections with the links that names and shared paths make likely; C asks the data, J writes the join, and L on a cell of a result goes to the documents it leads to. /shape COLLECTION shows every path with its kinds and their shares. F7 shows a flow stage by stage: documents in and out, what was dropped, samples of both; Space leaves a stage out.",
        ],
        "flows" => &[
            "A flow says where documents come from and what happens to them, one clause after the other: from landings where port = 'Brackwater' group by species { n: count() } order by n desc;",
            "Conditions are those of SQL. A path that crosses a list stands for its elements: lines.kg > 20 holds where one element fits; some lines (kg > 20 and grade = 'A') wants one that fits all of it. is null asks for null or not there, is missing for not there.",
            "An update or delete without a condition has to say all: delete all from landings. docs/flow.md teaches the whole language.",
            "What is doubtful is said while you write, above the statement: a path that no document has, a sum over a list, kinds that never compare; Tab offers what mends it. :name in a flow is asked for when it runs, :?name with hidden input.",
            "begin, commit and rollback are transactions where the server has them, which replica sets do; there what fails ends it, and nothing of it is kept. Over files a changed collection waits beside its place until commit puts it there.",
        ],
        "write" => &[
            "The list of what could stand at the cursor opens as you type: columns of the tables that this place sees (also through aliases, of queries in brackets and of common tables), tables after from, linked ones first after join, the linking condition after on, the values of a column that holds one of a few, keywords, functions with their arguments. Tab takes what is marked, or first what all have in common; ↑ and ↓ choose; Esc closes it.",
            "A bracket, quote or comment that is still open is coloured where it stands, and a bar runs down from its line.",
            "Several statements in one go run in order, each an entry, and stop at the first error; the rest stays in the composer.",
            "A pasted text never runs by itself. A cleared line comes back with ↑.",
        ],
        "statements" => &["SQL goes to the server as it is. These words begin a statement here:"],
        "errors" => &[
            "When a statement is refused it comes back into the composer, with the place marked and the corrections open as a list: Tab takes one, Enter or F5 runs.",
            "Above stands in plain words what is wrong, what the server said with its code, and whether anything was changed.",
            "A statement that ends too early most often has a bracket or quote open: the list offers what closes it.",
            "A lock is waited for up to 5 s, and the tide line says so.",
        ],
        "entries" => &[
            "Entries are numbered from 1. They and their results stay for the session; statements stay for later sessions too, in a file that only you can read.",
            "Results share 256 MB of memory and then go to disk, up to 2 GB; past that the oldest give up their rows and say so.",
        ],
        "read" => &[
            "null is the faint word, empty text is '', bytes are x'…'. A line break is ¶, a tab ⇥, a blank at the end ␣, any other control character its code, as in ⟨1b⟩. Numbers stand right; a text that looks like a number stands left.",
            "The last line of a result has the figures of the current column and how its numbers spread.",
            "Ordering, filtering and finding work on all rows, not only on those in sight.",
            "Columns whose names look like secrets (password, token, api_key and such; covered in the settings has a list of one's own) and values that have the form of a stored password are covered. /reveal shows them in the current result; /export leaves them covered unless it is told --revealed.",
        ],
        "change" => &[
            "/load FILE shows what a file holds and how it would go into a table or collection: its columns with types found from all rows, and every line that does not fit, with the reason. On the screen that is a result, and Enter changes the cell it stands on: leaves a column out or takes it in, makes it part of the key, begins another name, type or form, whose end the list offers; S, H, Q and Y change how the file is read: what stands between values, whether the first line has names, what quotes are, the encoding; titles in front of the names are found and left out (--skip-rows 0 takes them); F5 loads it. In words: --type COLUMN=decimal(12,2), --name COLUMN=NAME, --form COLUMN=dmy (or mdy, comma), --leave-out and --key change a column; --separator, --header, --no-header, --no-quotes, --null, --encoding and --skip-rows how it is read. --go loads it: all or nothing, or in batches with --batch N. --bad skip leaves out what does not fit and writes it beside; --existing skip or replace says what becomes of rows whose key is there. Rows that are pasted below /load - --into NAME are loaded likewise.",
            "An update, a delete, a merge or an insert from a query is looked at before it is kept: it runs in a transaction that nobody else sees, and its rows are shown, of an update before and after, what differs marked. /keep (K while reading) keeps it, /take-back (T) takes it back; after ten minutes, or when the connection or the program ends, it is taken back by itself. Rows of other tables that links and triggers change with it are counted. In the meantime statements that read run, and others are refused.",
            "Inserts of single rows, and writes that name fewer than ten rows by their key, run at once; the rows as they are now stand below. look-from = 1 in the settings looks at these too, hold-minutes says how long a change is held; with 0 none is, and the numbers are asked about instead.",
            "What cannot be taken back is asked about first, with the numbers that would go: drops, truncates, other storage engines, servers without transactions, and changes of more than 100 000 rows before they are held; wherever they stand: in a with, a copy, a block, a text that is run, behind a condition that always holds. On a source of tone danger the name of what goes has to be typed.",
            "A statement that ends an open transaction by itself, as create table does on MariaDB and MySQL, is asked about while one is open; --together refuses it.",
            "After a write its entry says how many rows it changed, the new key, and what the table holds now; what was made is shown in full.",
            "Behind create database, create table, create user, grant and the like the list (Tab) has what this server knows there; /help options has all of it. password or identified by with nothing behind it asks for the password, hidden.",
            "/writes none makes the engine itself refuse every write. On a server every statement then runs in a transaction that may only read; calls, blocks and what else cannot be known before is not sent. /writes free asks nothing.",
            "begin opens a transaction, and the first line says so, with its age and the number of statements, until commit or rollback.",
        ],
        "options" => &[
            "What can stand in statements that make databases, tables, indexes, users and roles, or grant rights, from the servers' documentation:",
        ],
        "take away" => &[
            "/export writes all rows of the current result, with the columns, order and filter you see. The format comes from the file name's ending, or from --as: csv, tsv, json, jsonl, markdown, html, sql (inserts; --table, --dialect, --create), xlsx, parquet, text, record, raw (one value as its bytes). A file that is there is asked about unless --replace is said, and replaced only when the new one is whole; /export \"| PROGRAM\" gives the rows to a program.",
            "In CSV null is nothing and empty text is \"\"; --separator, --quote-all, --null and --encoding change how it is written. Bytes are hexadecimal. Text layouts show control characters as marks; the other formats keep them. A spreadsheet keeps 15 digits and days from 1900 on: what it would change stays text, and that is said. An option that says nothing to a format is refused.",
            "Documents as json or jsonl keep every kind and are read back the same; --as canonical and --as relaxed are the two forms of Extended JSON, a document a line.",
            "While reading, C copies the current value to the clipboard, or the rows that Space and M mark; in a text it copies the text. /clipboard copies a row, a column, the result or the statement, --as any format that is text. It goes through the terminal, also from far away, and to the system's clipboard where there is one; a terminal does not say whether it took it, and takes 74 kB. /layout shows a result as text to be selected.",
            "/diary FILE.md keeps a record of this session: each statement, what it came to, its rows (200 of them; --rows N), drawings beside it; --from and --to make one of earlier entries. What is covered stays covered. It is Markdown: idle-tide run SOURCE --file FILE.md runs its blocks again, also those that you write by hand (fenced as sql, flow or command), and --check compares each result with the table below its block: columns by name, rows in order only where the statement orders them, numbers as numbers; … stands for whatever comes, a row of … for further rows.",
        ],
        "conditions" => &[
            "/filter keeps the rows that satisfy a condition over the columns of the result: = <> < <= > >=, and, or, not, in (…), between … and …, like (% any text, _ one character, case counts), is null, is not null, + - * / % and ||.",
            "Texts stand in single quotes. A column whose name is no plain word stands in back-ticks: `last in`.",
            "Variables and functions of scripts stand in it too: depth > :least, berth in :list, heavy(kg).",
            "A comparison with null is false, and not turns it over. Values of different kinds are never equal. 7/2 is 3.5.",
        ],
        "shell" => &[
            "idle-tide run SOURCE 'STATEMENT' … runs without a screen: results on standard output, messages on standard error, exit code 0 only if all went well. --file FILE runs a file; without either, statements come from standard input.",
            "--format NAME is one of the formats of /export, with its options; --output FILE, in whose name {n} is the number of the result; --replace. --param NAME=VALUE gives :?NAME a value (:NAME in flows). --limit N writes the first rows, --timeout SECONDS stops what takes longer, --quiet leaves out everything but results and errors. --keep-going goes on after an error, --together makes all one transaction.",
            "check, list, about, definition, databases, export and load are calls of their own; completions SHELL and man FOLDER write what their names say. The exit code is 1 if a statement was refused, 2 for a wrong command line, 3 if the source cannot be opened, 4 if something was asked about and nobody said yes, 5 if the connection was lost, 6 for --timeout, 7 if results cannot be written, 8 if they are not those of a diary.",
            "Statements that sweep are refused there unless --writes free is given.",
            "idle-tide SOURCE --first 'STATEMENT' opens the desk and runs something at once.",
        ],
        "commands" => &["Arguments stand apart by blanks, in quotes where they hold blanks."],
        "limits" => &[
            "What is kept within bounds, and by how much. The settings change it, under [limits]: notices = 1000. A name or a value that cannot be is told on arrival, and the usual one counts.",
            "Of the warnings of MariaDB and MySQL the first 20 of a statement are shown, and how many there are.",
        ],
        "help" => &["/help TOPIC opens a topic; /help WORD finds every line with the word."],
        _ => &[],
    }
}

/// What can stand in statements that make or grant something, by family.
fn options(page: &mut Page, width: usize) {
    use idle_tide_lang::complete::making::{Part, ROWS};
    for dialect in [&SQLITE, &POSTGRES, MARIADB] {
        page.say(Tone::Heading, dialect.name);
        let rows = ROWS
            .iter()
            .filter(|row| row.families.contains(&dialect.family));
        for row in rows {
            let place = match row.part {
                Part::Options => "",
                Part::Type => ", types",
                Part::Column => ", behind a type",
                Part::Table => ", of the whole table",
                Part::Rights => ", rights",
                Part::On => ", on",
                Part::Granted => ", behind the name",
            };
            page.say(Tone::Active, format!("{}{place}", row.head));
            let list: Vec<String> = (row.options.iter())
                .map(|(word, detail)| match *detail {
                    "" => (*word).to_string(),
                    detail => format!("{word} ({detail})"),
                })
                .collect();
            for line in wrap(&list.join(", "), width.saturating_sub(2)) {
                page.say(Tone::Plain, format!("  {line}"));
            }
        }
        page.gap();
    }
}

fn command_lines(page: &mut Page, list: &[&Command]) {
    let usage = |c: &Command| format!("/{} {}", c.name, c.usage).trim_end().to_string();
    let width = list
        .iter()
        .map(|c| usage(c).chars().count())
        .max()
        .unwrap_or(0)
        .min(44)
        + 2;
    for command in list {
        let usage = usage(command);
        if usage.chars().count() >= width {
            page.line(Line::new().and(Tone::Active, usage));
            page.line(
                Line::new()
                    .column(Tone::Plain, "", width)
                    .and(Tone::Plain, command.summary),
            );
        } else {
            page.line(
                Line::new()
                    .column(Tone::Active, usage, width)
                    .and(Tone::Plain, command.summary),
            );
        }
    }
}

fn key_lines(page: &mut Page, place: Place, keys: &Keymap) {
    for key in of(place) {
        let mut line = Line::new()
            .column(Tone::Active, keys.cap(key), 15)
            .and(Tone::Plain, key.summary);
        if !key.command.is_empty() {
            line = line.and(Tone::Faint, format!("   {}", key.command));
        }
        line = line.and(Tone::Faint, format!("   {}", key.full_name()));
        page.line(line);
    }
}

/// The page of a topic, its sentences broken at `width` columns.
pub fn page(topic: &str, width: usize, keys: &Keymap) -> Page {
    let mut page = Page::new();
    if topic == "one page" {
        for topic in TOPICS
            .iter()
            .filter(|t| !matches!(**t, "one page" | "commands"))
        {
            page.lines.extend(self::page(topic, width, keys).lines);
            page.gap();
        }
        return page;
    }
    let mut title = topic.to_string();
    if let Some(first) = title.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    page.say(Tone::Heading, title);
    page.gap();
    for sentence in words(topic) {
        for line in wrap(sentence, width) {
            page.say(Tone::Plain, line);
        }
        page.gap();
    }
    if topic == "take away" {
        let formats = format!(
            "Formats of rows: {}.",
            idle_tide_draw::export::names_in_words()
        );
        for line in wrap(&formats, width) {
            page.say(Tone::Plain, line);
        }
        page.gap();
    }
    if topic == "options" {
        options(&mut page, width);
        return page;
    }
    if topic == "limits" {
        for row in &LIMITS {
            let name = format!("{}  ", row.name);
            let value = format!("{}  ", idle_tide_draw::picture::grouped(row.usual));
            page.line(Line::new().and(Tone::Heading, name).and(Tone::Plain, value));
            for line in wrap(row.what, width.saturating_sub(2)) {
                page.say(Tone::Faint, format!("  {line}"));
            }
        }
        return page;
    }
    if topic == "statements" {
        for dialect in [&SQLITE, &POSTGRES, MARIADB] {
            page.say(Tone::Plain, format!("{}:", dialect.name));
            for line in wrap(&dialect.starts.join("  "), width) {
                page.say(Tone::Heading, line);
            }
            page.gap();
        }
        for dialect in [&SQLITE, &POSTGRES, MARIADB] {
            page.say(
                Tone::Plain,
                format!("The commonest functions of {}:", dialect.name),
            );
            for (name, arguments) in dialect.functions {
                page.line(
                    Line::new()
                        .and(Tone::Plain, format!("{name}("))
                        .and(Tone::Faint, *arguments)
                        .and(Tone::Plain, ")"),
                );
            }
            page.gap();
        }
        return page;
    }
    let commands: Vec<&Command> = COMMANDS
        .iter()
        .filter(|c| topic == "commands" || c.topic == topic)
        .collect();
    if !commands.is_empty() {
        command_lines(&mut page, &commands);
        page.gap();
    }
    for place in Place::of_topic(topic) {
        page.say(Tone::Heading, place.title());
        key_lines(&mut page, place, keys);
        page.gap();
    }
    while page.lines.last().is_some_and(|line| line.spans.is_empty()) {
        page.lines.pop();
    }
    page
}

/// Commands and keys as a card: what each does in as few words as there are for it.
pub fn card(keys: &Keymap) -> Card {
    let short = |words: &str| -> String {
        let end = words.find([',', ';', ':']).unwrap_or(words.len());
        words[..end].to_string()
    };
    let of_keys = Place::all().map(|place| Section {
        title: place.title().to_string(),
        lines: of(place)
            .map(|key| {
                let words = if key.hint.is_empty() {
                    key.summary
                } else {
                    key.hint
                };
                (keys.cap(key).to_string(), short(words))
            })
            .collect(),
    });
    let of_commands = TOPICS.iter().map(|topic| {
        let own = COMMANDS.iter().filter(|command| command.topic == *topic);
        Section {
            title: format!("Commands: {topic}"),
            lines: own
                .map(|c| (format!("/{}", c.name), short(c.summary)))
                .collect(),
        }
    });
    Card {
        title: "Idle Tide: keys and commands".into(),
        sections: of_keys.chain(of_commands).collect(),
    }
}

/// Writes the card to a file that is not there yet; answers in words what was written.
///
/// # Errors
/// In words.
pub fn write_card(path: &std::path::Path, keys: &Keymap) -> Result<String, String> {
    let ending = path
        .extension()
        .and_then(std::ffi::OsStr::to_str)
        .unwrap_or("");
    let ending = ending.to_ascii_lowercase();
    if !DRAWINGS.contains(&ending.as_str()) {
        return Err(format!(
            "The card is written as {}; the name of the file says which.",
            DRAWINGS.join(", ")
        ));
    }
    if path.exists() {
        return Err(format!(
            "{} is there already; name another file.",
            path.display()
        ));
    }
    export_drawing(&card(keys), path, &ending)
}

/// Lines of every topic that hold all the words of `search`, under their topics; one command in full if
/// the search is its name.
pub fn search(search: &str, width: usize, keys: &Keymap) -> Page {
    let mut page = Page::new();
    let name = search.trim().trim_start_matches('/');
    if let Some(command) = idle_tide_lang::command::find(name) {
        command_lines(&mut page, &[command]);
        if !command.options.is_empty() {
            page.gap();
            for option in command.options {
                let value = match option.value {
                    Some(idle_tide_lang::command::Argument::Words(words)) => {
                        format!(" one of {}", words.join(", "))
                    }
                    Some(idle_tide_lang::command::Argument::Often(words)) => {
                        format!(" such as {}", words.join(" "))
                    }
                    Some(idle_tide_lang::command::Argument::Format) => {
                        let rows = idle_tide_draw::export::names();
                        let all: Vec<_> = rows.chain(["svg", "pdf"]).collect();
                        format!(" one of {}", all.join(", "))
                    }
                    Some(idle_tide_lang::command::Argument::Pair([])) => " COLUMN=NAME".into(),
                    Some(idle_tide_lang::command::Argument::Pair(words)) => {
                        format!(" COLUMN= and one of {}", words.join(", "))
                    }
                    Some(_) => " NAME".into(),
                    None => String::new(),
                };
                page.line(
                    Line::new()
                        .and(Tone::Active, format!("  --{}", option.name))
                        .and(Tone::Faint, value),
                );
            }
        }
        page.gap();
    }
    let words: Vec<String> = search.split_whitespace().map(str::to_lowercase).collect();
    for topic in TOPICS
        .iter()
        .filter(|t| !matches!(**t, "one page" | "commands" | "keys"))
    {
        let found: Vec<Line> = self::page(topic, width, keys)
            .lines
            .into_iter()
            .skip(1)
            .filter(|line| {
                let text = line.text().to_lowercase();
                words.iter().all(|word| text.contains(word.as_str()))
            })
            .collect();
        if !found.is_empty() {
            page.say(Tone::Heading, *topic);
            page.lines.extend(found);
            page.gap();
        }
    }
    if page.lines.is_empty() {
        page.say(Tone::Plain, format!("No line of the guide has {search}."));
    }
    page
}

/// Whether a line of the guide has a word.
pub fn knows(word: &str, keys: &Keymap) -> bool {
    let word = word.to_lowercase();
    let has = |topic: &&str| {
        let lines = self::page(topic, 96, keys).lines;
        let mut texts = lines.iter().skip(1).map(Line::text);
        texts.any(|text| {
            let mut words = text.split(|c: char| !c.is_alphanumeric() && c != '_');
            words.any(|other| other.eq_ignore_ascii_case(&word))
        })
    };
    TOPICS.iter().filter(|topic| **topic != "one page").any(has)
}

/// The whole guide as Markdown, for docs/guide.md.
pub fn markdown() -> String {
    let cell = |text: &str| text.replace('|', "\\|");
    let mut out = String::from(
        "# Guide\n\nMade from the tables in the code; the same text opens with F1. `UPDATE_DOCS=1 cargo test -p idle-tide --test docs` writes it anew.\n",
    );
    for topic in TOPICS.iter().filter(|topic| **topic != "one page") {
        let mut title = (*topic).to_string();
        if let Some(first) = title.get_mut(..1) {
            first.make_ascii_uppercase();
        }
        out.push_str(&format!("\n## {title}\n"));
        for sentence in words(topic) {
            out.push_str(&format!(
                "\n{}\n",
                sentence.replace('*', "\\*").replace('_', "\\_")
            ));
        }
        let commands: Vec<&Command> = COMMANDS
            .iter()
            .filter(|c| *topic == "commands" || c.topic == *topic)
            .collect();
        if !commands.is_empty() {
            out.push_str("\n| command | what it does |\n|---|---|\n");
            for c in commands {
                let usage = format!("/{} {}", c.name, c.usage);
                out.push_str(&format!(
                    "| `{}` | {} |\n",
                    cell(usage.trim_end()),
                    cell(c.summary)
                ));
            }
        }
        if *topic == "limits" {
            out.push_str("\n| name | usual | what it bounds |\n|---|--:|---|\n");
            for row in &LIMITS {
                let usual = idle_tide_draw::picture::grouped(row.usual);
                out.push_str(&format!("| `{}` | {usual} | {} |\n", row.name, row.what));
            }
        }
        if *topic == "keys" {
            for place in Place::all() {
                out.push_str(&format!(
                    "\n### {}\n\n| key | what it does | its name in the settings |\n|---|---|---|\n",
                    place.title()
                ));
                for key in of(place) {
                    out.push_str(&format!(
                        "| {} | {} | `{}` |\n",
                        cell(key.cap),
                        cell(key.summary),
                        key.full_name()
                    ));
                }
            }
        }
        if *topic == "statements" {
            for dialect in [&SQLITE, &POSTGRES, MARIADB] {
                out.push_str(&format!(
                    "\n{}: {}\n",
                    dialect.name,
                    dialect.starts.join(", ")
                ));
            }
        }
    }
    out
}

/// Breaks a text at blanks into lines of at most `width` columns.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let width = width.max(10);
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let length = word.chars().count();
        let Some(last) = lines.last_mut() else {
            continue;
        };
        if last.is_empty() {
            last.push_str(word);
        } else if last.chars().count() + 1 + length <= width {
            last.push(' ');
            last.push_str(word);
        } else {
            lines.push(word.to_string());
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_and_key_is_in_the_guide() {
        let one = page("one page", 100, &Keymap::default()).text();
        for command in COMMANDS {
            assert!(
                one.contains(&format!("/{}", command.name)),
                "/{}",
                command.name
            );
            assert!(TOPICS.contains(&command.topic), "{}", command.topic);
        }
        let card = card(&Keymap::default()).text();
        for command in COMMANDS {
            assert!(
                card.contains(&format!("\n  /{} ", command.name)),
                "/{}",
                command.name
            );
        }
        for key in crate::keys::KEYS {
            assert!(one.contains(key.summary), "{}", key.cap);
        }
    }

    #[test]
    fn searching_finds_commands_and_sentences() {
        assert!(
            search("/export", 80, &Keymap::default())
                .text()
                .contains("--as one of csv")
        );
        assert!(
            search("semicolon enter", 80, &Keymap::default())
                .text()
                .contains("first steps")
        );
        assert!(
            search("zzz", 80, &Keymap::default())
                .text()
                .contains("No line")
        );
        assert_eq!(wrap("one two three", 10), ["one two", "three"]);
    }
}
