//! What a face may see of a desk, and the answers it gives.

use idle_tide_core::document::Datum;
use idle_tide_core::result::ResultSet;
use idle_tide_core::{Catalog, Column, Figures};
use idle_tide_lang::Dialect;
use parking_lot::RwLock;
use secrecy::SecretString;

use super::*;
use crate::covering::Covering;
use crate::entry::Entry;
use crate::face::Request;
use crate::guard::Question;
use crate::links::Links;
use crate::sources::Found;
use crate::stages::Stages;

/// How long what was asked to stop may take before it can be given up.
const PATIENCE: Duration = Duration::from_secs(2);

impl Desk {
    /// All entries, oldest first.
    pub fn entries(&self) -> &[Entry] {
        self.entries.all()
    }

    /// Where in [`Desk::entries`] the entry stands that is shown.
    pub fn current(&self) -> usize {
        self.entries.current
    }

    /// The entry that is shown.
    pub fn entry(&self) -> Option<&Entry> {
        self.entries.shown()
    }

    /// The drawing of the entry that is shown, to change it.
    pub fn links_mut(&mut self) -> Option<&mut Links> {
        self.entries.shown_mut()?.links_mut()
    }

    /// The rows of the entry that is shown, to change their view.
    pub fn sheet_mut(&mut self) -> Option<&mut Sheet> {
        self.entries.shown_mut()?.sheet_mut()
    }

    /// The stages of an entry, to move through them.
    pub fn stages_mut(&mut self, entry: u32) -> Option<&mut Stages> {
        self.entries.get_mut(entry)?.stages_mut()
    }

    /// Shows another entry, by its place.
    pub fn show(&mut self, at: usize) {
        self.entries.current = at.min(self.entries.all().len().saturating_sub(1));
    }

    /// The entries from which links were followed to the current one, the first one first.
    pub fn trail(&self) -> Vec<u32> {
        let mut trail = Vec::new();
        let mut at = self.entry();
        while let Some(number) = at.and_then(|entry| entry.came_from) {
            if trail.contains(&number) {
                break;
            }
            trail.insert(0, number);
            at = self.entries.get(number);
        }
        trail
    }

    /// The functions that scripts made.
    pub fn own_functions(&self) -> impl Iterator<Item = &idle_tide_lang::flow::made::Function> {
        self.services.script.functions.iter()
    }

    /// Names that a script may use: each with a word on it, and whether it is a function.
    pub fn script_names(&self) -> Vec<(String, String, bool)> {
        let state = &self.services.script;
        let variables = state.variables.fields.iter();
        let variables = variables
            .map(|(name, value)| (name.to_string(), value.kind().word().to_string(), false));
        let own = state.functions.iter();
        let own = own.map(|function| {
            (
                function.name.clone(),
                format!("({})", function.arguments.join(", ")),
                true,
            )
        });
        let outside = idle_tide_dock::flow::script::OUTSIDE.iter();
        let outside = outside
            .map(|(name, arguments, _)| ((*name).to_string(), format!("({arguments})"), true));
        let known = idle_tide_lang::flow::functions::FUNCTIONS.iter();
        let known = known.map(|function| {
            (
                function.name.to_string(),
                format!("({})", function.arguments),
                true,
            )
        });
        let words = ["for", "if", "else", "def", "print", "show"];
        let words = words.map(|word| (word.to_string(), "begins a line".to_string(), false));
        variables
            .chain(own)
            .chain(outside)
            .chain(known)
            .chain(words)
            .collect()
    }

    /// The fields of a variable of scripts, by its path.
    pub fn fields_of(&self, path: &str) -> Vec<(String, String, bool)> {
        let mut steps = path.split('.');
        let first = steps.next().unwrap_or_default();
        let mut found = self.services.script.variables.get(first);
        for step in steps {
            found = match found {
                Some(Datum::Object(inner)) => inner.get(step),
                _ => None,
            };
        }
        match found {
            Some(Datum::Object(inner)) => {
                let fields = inner.fields.iter();
                fields
                    .map(|(name, value)| (name.to_string(), value.kind().word().to_string(), false))
                    .collect()
            }
            _ => Vec::new(),
        }
    }

    /// Lends a result that no entry has to `/across`, under a name.
    pub fn lend(&mut self, name: &str, set: ResultSet) {
        self.services.lent.push(crate::across::Table {
            name: name.into(),
            from: crate::across::From::Result(Arc::new(RwLock::new(set))),
        });
    }

    /// The results of entries as tables of `/across`.
    pub fn results(&self) -> Catalog {
        crate::verbs::across::catalog(&self.entries)
    }

    /// The objects of the database, as last read.
    pub fn catalog(&self) -> &Arc<Catalog> {
        &self.session().catalog
    }

    /// The figures of a table, if they were gathered in this session.
    pub fn figures_of(&self, table: &str) -> Option<&[(Column, Figures)]> {
        self.session().figures.get(table).map(Vec::as_slice)
    }

    /// Where the session is.
    pub fn bearings(&self) -> &Bearings {
        &self.session().bearings
    }

    /// The short name of the source.
    pub fn source(&self) -> &str {
        &self.session().source
    }

    /// How writes are treated.
    pub fn writes(&self) -> Writes {
        self.session().writes
    }

    /// The dialect that is typed.
    pub fn dialect(&self) -> &'static Dialect {
        self.session().dialect
    }

    /// Statements of this and earlier sessions.
    pub fn history(&self) -> &History {
        &self.services.history
    }

    /// The settings as they are now.
    pub fn settings(&self) -> Settings {
        self.services.settings()
    }

    /// Which names of columns are covered.
    pub fn covering(&self) -> &Covering {
        &self.services.covering
    }

    /// Servers found on this machine, and which saved sources answer.
    pub fn found(&self) -> (&[Found], &[(String, bool)]) {
        (&self.services.found.0, &self.services.found.1)
    }

    /// Whether this machine is being looked at for servers.
    pub fn is_looking(&self) -> bool {
        self.services.looking
    }

    /// Whether the entry shown changes with time: it is live, or was so a moment ago.
    pub fn is_live(&self) -> bool {
        let live = self.entry().and_then(|entry| entry.live.as_ref());
        live.is_some_and(|live| live.goes_on() || live.freshness() > 0.0)
    }

    /// What is asked in the current session, to be answered with yes or no.
    pub fn question(&self) -> Option<&Question> {
        self.session().question()
    }

    /// What is asked in it with hidden input, or to be allowed, first.
    pub fn asking(&self) -> Option<&Asking> {
        self.session().asking.front()
    }

    /// Whether something runs or waits in the current session, or an export goes on anywhere.
    pub fn is_busy(&self) -> bool {
        let exports = |session: &Session| session.behind.iter().any(|away| away.holds);
        self.session().is_busy() || self.sessions.iter().any(exports)
    }

    /// The entry that is in progress in the current session, if one is.
    pub fn running(&self) -> Option<&Entry> {
        let busy = self.session().busy.as_ref()?;
        self.entries.get(self.entries.taking(busy.entry))
    }

    /// Statements and commands that wait.
    pub fn waiting(&self) -> usize {
        self.session().queue.len()
    }

    /// How long the running statement has waited for a lock, and the limit.
    pub fn lock_wait(&self) -> Option<(Duration, Duration)> {
        let session = self.session();
        session.busy.as_ref().and_then(|_| session.worker.waiting())
    }

    /// Who holds the lock that the running statement waits for, in words, where a server tells.
    pub fn blocked(&self) -> Option<&str> {
        let session = self.session();
        let (task, words) = session.blocked.as_ref()?;
        match &session.busy.as_ref()?.doing {
            Doing::Away(away) if away.task == *task => Some(words),
            _ => None,
        }
    }

    /// What the face is asked to do for the current session.
    pub fn take_request(&mut self) -> Option<Request> {
        self.sessions[self.here].requests.pop_front()
    }

    /// What goes back into the composer of the current session.
    pub fn take_returned(&mut self) -> Option<Returned> {
        self.sessions[self.here].returned.take()
    }

    /// A word about something that made no entry.
    pub fn notice(&self) -> Option<&Notice> {
        self.services.notice.as_ref()
    }

    /// Whether the practice server runs in this process.
    pub fn practises(&self) -> bool {
        self.services.practice.is_some()
    }

    /// Says something that makes no entry.
    pub fn say(&mut self, text: impl Into<String>, tone: Tone) {
        self.services.notice = Some(Notice {
            text: text.into(),
            tone,
        });
    }

    /// Lets go of entries without rows but for the last `keep` or so: whoever runs a file of statements goes back to none.
    pub fn let_go_of_entries(&mut self, keep: usize) {
        self.entries.let_go(keep);
    }

    /// Takes the word away.
    pub fn hush(&mut self) {
        self.services.notice = None;
    }

    /// Databases of the server, from the latest list of them that this session showed.
    pub fn known_databases(&self) -> Vec<(String, String)> {
        let number = self.session().number;
        let listed =
            |entry: &&Entry| entry.session == number && entry.text.starts_with("/databases");
        let sheet = self
            .entries
            .all()
            .iter()
            .rev()
            .find(listed)
            .and_then(Entry::sheet);
        let Some(sheet) = sheet else {
            return Vec::new();
        };
        let set = crate::sheet::read(&sheet.set);
        let rows = 0..set.len().min(2_000);
        rows.filter_map(|row| set.value(row, 0).ok().map(|value| value.as_ref().plain()))
            .map(|name| (name, "database".to_string()))
            .collect()
    }

    /// Answers the question.
    pub fn answer(&mut self, yes: bool) {
        let asks = |busy: &mut Busy| matches!(busy.doing, Doing::Asking(..));
        let at = self.here;
        let Some(busy) = self.sessions[at].busy.take_if(asks) else {
            return;
        };
        let next = match busy.doing {
            Doing::Asking(_, step) if yes => {
                step(&mut self.turn(at, &busy.waiting, Some(busy.entry)))
            }
            _ => Next::NotRun,
        };
        self.apply(at, busy.waiting, Some(busy.entry), next);
        self.settle();
    }

    /// Answers a question for a secret or a value; `None` goes no further.
    pub fn answer_secret(&mut self, given: Option<SecretString>) {
        let at = self.here;
        let Some(asking) = self.sessions[at].asking.pop_front() else {
            return;
        };
        match asking.to {
            To::Opener(reply) => {
                if given.is_none() {
                    self.give_up(at);
                }
                // One that was given up listens no longer.
                let _ = reply.send(given);
            }
            To::Allow(reply) => drop(reply.send(false)),
            To::Entry(answer) => {
                let Some(busy) = self.sessions[at].busy.take() else {
                    return;
                };
                let mut turn = self.turn(at, &busy.waiting, Some(busy.entry));
                let next = given.map_or(Next::NotRun, |given| answer(&mut turn, given));
                self.apply(at, busy.waiting, Some(busy.entry), next);
            }
        }
        self.settle();
    }

    /// Answers whether to go on.
    pub fn answer_allow(&mut self, yes: bool) {
        match self.sessions[self.here].asking.front() {
            Some(Asking {
                to: To::Allow(_), ..
            }) => {}
            _ => return self.answer_secret(None),
        }
        if let Some(Asking {
            to: To::Allow(reply),
            ..
        }) = self.sessions[self.here].asking.pop_front()
        {
            // One that was given up listens no longer.
            let _ = reply.send(yes);
        }
    }

    /// Whether what runs in the current session was asked to stop.
    pub fn is_stopping(&self) -> bool {
        match self.session().busy.as_ref().map(|busy| &busy.doing) {
            Some(Doing::Away(away)) => away.asked.is_some(),
            _ => false,
        }
    }

    /// Stops what runs in the current session, or says no to what is asked in it. What waited behind it in the
    /// same submission goes back into the composer. What was asked to stop a while ago and did not is given up, and
    /// its connection with it. False if there is nothing to stop.
    pub fn cancel(&mut self) -> bool {
        let at = self.here;
        if !self.sessions[at].asking.is_empty() {
            self.answer_secret(None);
            return true;
        }
        let late = |away: &Away| away.asked.is_some_and(|asked| asked.elapsed() >= PATIENCE);
        match self.sessions[at].busy.as_mut().map(|busy| &mut busy.doing) {
            Some(Doing::Away(away)) if away.lane == Lane::Free => self.give_up(at),
            Some(Doing::Away(away)) if late(away) => self.give_up_connection(at),
            Some(Doing::Away(away)) => {
                away.asked.get_or_insert_with(Instant::now);
                if let Some(Doing::Away(away)) =
                    self.sessions[at].busy.as_ref().map(|busy| &busy.doing)
                {
                    self.sessions[at].stop(away);
                }
            }
            Some(Doing::Asking(..) | Doing::Wanting) => self.answer(false),
            None => return self.cancel_behind(),
        }
        true
    }

    /// Gives up a connection that does not stop what it runs: nobody waits for it, and it is of no more use.
    fn give_up_connection(&mut self, at: usize) {
        let session = &mut self.sessions[at];
        let Some(busy) = session.busy.take() else {
            return;
        };
        // Its thread ends when the call in it does.
        session.worker = crate::worker::Worker::nowhere();
        session.lost = true;
        session.bearings.transaction = None;
        session.bearings.transaction_failed = false;
        tracing::warn!(
            session = session.number,
            "a connection that does not stop is given up"
        );
        let taking = self.entries.taking(busy.entry);
        let failure = failure::given_up();
        let sheet = self.entries.get(taking).and_then(|entry| entry.sheet());
        let content = match sheet.filter(|sheet| !sheet.labels.is_empty()) {
            Some(sheet) => Content::Rows(sheet.clone()),
            None => Content::Failure(failure.clone()),
        };
        self.say(failure.headline.clone(), Tone::Danger);
        self.fail(at, taking, &busy.waiting, content, failure);
        self.settle();
    }

    /// Stops work that no entry waits for and that is seen: the catalog of the arrival, an order, a filter, a search.
    fn cancel_behind(&mut self) -> bool {
        let session = &self.sessions[self.here];
        let seen = |away: &&Away| match away.lane {
            Lane::Free => away.holds,
            _ => session.arriving.is_some(),
        };
        let list: Vec<&Away> = session.behind.iter().filter(seen).collect();
        list.iter().for_each(|away| session.stop(away));
        let list = list.len();
        let shown = self.entries.shown_mut();
        let working = shown.is_some_and(|entry| {
            crate::readings::stop(entry) | entry.sheet().is_some_and(Sheet::stop_working)
        });
        list > 0 || working
    }

    /// Gives up work in a thread of its own: its entry ends at once, and nobody waits for it.
    fn give_up(&mut self, at: usize) {
        let free =
            |busy: &mut Busy| matches!(&busy.doing, Doing::Away(away) if away.lane == Lane::Free);
        let Some(busy) = self.sessions[at].busy.take_if(free) else {
            return;
        };
        if let Doing::Away(away) = busy.doing {
            self.sessions[at].stop(&away);
            self.sessions[at].asking.clear();
            let page = away.given_up.unwrap_or_default();
            self.not_run(at, busy.entry, &busy.waiting, page);
        }
        self.settle();
    }
}
