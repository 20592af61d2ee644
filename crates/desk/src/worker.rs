//! The threads of a desk, all of them: one for each connection, which takes work one after the other, and one for
//! every piece of work that needs none. Work that panics comes back as failed; nobody waits for ever.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use idle_tide_engines::{Bearings, Beside, Connection, Control, EngineError, Fault, Idle};
use idle_tide_lang::Dialect;

use crate::task::{Bench, Progress, Reporter, SessionId, TaskId, Work, fault, stopped};

/// The stack of a thread, in bytes.
const STACK: usize = 64 * 1024 * 1024;

/// How often a connection on which nothing runs is listened to.
const LISTENS_EVERY: Duration = Duration::from_secs(1);

/// Something happened in a thread.
pub enum Event<T> {
    /// Work came back.
    Ended {
        /// The session it belongs to.
        session: SessionId,
        /// Its number.
        task: TaskId,
        /// The work, with what it found.
        work: T,
        /// How it ended.
        how: Result<(), EngineError>,
        /// How long it took.
        took: Duration,
        /// Where the session is now and what it speaks, where it ran on its connection.
        bearings: Option<(Box<Bearings>, &'static Dialect)>,
    },
    /// The second connection could not be opened, or was lost: the work was not done.
    NotThere {
        /// The session it belongs to.
        session: SessionId,
        /// Its number.
        task: TaskId,
        /// The work.
        work: T,
    },
    /// How far work is.
    Progress(SessionId, TaskId, Progress),
    /// Something came from a server while nothing ran.
    Idle(SessionId, Idle),
}

/// How events reach the desk's thread.
pub type Notify<T> = Arc<dyn Fn(Event<T>) + Send + Sync>;

/// Work on its way to a thread.
pub(crate) struct Errand<T> {
    pub(crate) session: SessionId,
    pub(crate) task: TaskId,
    pub(crate) work: T,
    pub(crate) stop: Arc<AtomicBool>,
    /// Where the session is, for a second connection to go there.
    pub(crate) bearings: Option<Box<Bearings>>,
}

impl<T: Work + 'static> Errand<T> {
    /// Ends without having been done.
    pub(crate) fn undone(self, error: EngineError, notify: &Notify<T>) {
        notify(Event::Ended {
            session: self.session,
            task: self.task,
            work: self.work,
            how: Err(error),
            took: Duration::ZERO,
            bearings: None,
        });
    }
}

/// The desk's end of a connection's thread.
pub(crate) struct Worker<T> {
    errands: Sender<Errand<T>>,
    control: Arc<OnceLock<Arc<dyn Control>>>,
}

impl<T: Work + 'static> Worker<T> {
    /// A thread that owns an open connection. Where the connection is one to a server, a panic in it closes it:
    /// what the server would say next is not known to belong to the next statement.
    pub(crate) fn start(
        mut connection: Box<dyn Connection>,
        is_server: bool,
        session: SessionId,
        notify: Notify<T>,
    ) -> Self {
        let (errands, inbox) = channel();
        let control = Arc::new(OnceLock::from(connection.control()));
        spawn("connection", move || {
            let mut listens = is_server;
            loop {
                let errand = match listens {
                    true => inbox.recv_timeout(LISTENS_EVERY),
                    false => inbox.recv().map_err(RecvTimeoutError::from),
                };
                let errand = match errand {
                    Ok(errand) => errand,
                    Err(RecvTimeoutError::Disconnected) => return,
                    Err(RecvTimeoutError::Timeout) => {
                        let idle = catch_unwind(AssertUnwindSafe(|| connection.idle()));
                        let idle = idle.unwrap_or_default();
                        // Once is enough.
                        listens = !idle.lost;
                        if idle != Idle::default() {
                            notify(Event::Idle(session, idle));
                        }
                        continue;
                    }
                };
                if !one(&mut *connection, errand, false, &notify) && is_server {
                    return closed(connection, &inbox, &notify);
                }
            }
        });
        Worker { errands, control }
    }

    /// A thread on a second connection, which is opened when it is first needed.
    pub(crate) fn beside(open: Beside, notify: Notify<T>) -> Self {
        let (errands, inbox) = channel::<Errand<T>>();
        let control = Arc::new(OnceLock::new());
        let known = Arc::clone(&control);
        spawn("beside", move || {
            let Ok(first) = inbox.recv() else { return };
            let opened = catch_unwind(AssertUnwindSafe(open));
            let Ok(Ok(mut connection)) = opened else {
                if let Ok(Err(error)) = opened {
                    tracing::warn!(?error, "no second connection");
                }
                not_there(first, &notify);
                return inbox.iter().for_each(|errand| not_there(errand, &notify));
            };
            let _ = known.set(connection.control());
            let mut next = Some(first);
            while let Some(errand) = next {
                if !one(&mut *connection, errand, true, &notify) {
                    drop(connection);
                    return inbox.iter().for_each(|errand| not_there(errand, &notify));
                }
                next = inbox.recv().ok();
            }
        });
        Worker { errands, control }
    }

    /// A worker that takes nothing.
    pub(crate) fn nowhere() -> Self {
        Worker {
            errands: channel().0,
            control: Arc::default(),
        }
    }

    /// Hands work over; gives it back where nobody takes it.
    pub(crate) fn send(&self, errand: Errand<T>) -> Result<(), Box<Errand<T>>> {
        self.errands
            .send(errand)
            .map_err(|refused| Box::new(refused.0))
    }

    /// Cancels what runs or will run under this ticket.
    pub(crate) fn cancel(&self, ticket: TaskId) {
        if let Some(control) = self.control.get() {
            control.cancel(ticket);
        }
    }

    /// How long what runs has waited for a lock, and the limit.
    pub(crate) fn waiting(&self) -> Option<(Duration, Duration)> {
        self.control.get()?.waiting()
    }
}

/// Does work in a thread of its own.
pub(crate) fn free<T: Work + 'static>(errand: Errand<T>, notify: Notify<T>) {
    spawn("work", move || {
        done(None, errand, &notify);
    });
}

/// Writes in the background what must not be waited for, in the order in which it is handed over; ends with its
/// sender. Answers the end to send to, and the thread to wait for.
pub(crate) fn writer<M: Send + 'static>(
    mut write: impl FnMut(M) + Send + 'static,
) -> (Sender<M>, std::thread::JoinHandle<()>) {
    let (sender, inbox) = channel();
    let thread = spawn("writer", move || inbox.iter().for_each(&mut write));
    (sender, thread)
}

fn spawn(name: &str, work: impl FnOnce() + Send + 'static) -> std::thread::JoinHandle<()> {
    std::thread::Builder::new()
        .name(name.into())
        // What is nested as deeply as it may be has room; only what is used is taken.
        .stack_size(STACK)
        .spawn(work)
        .expect("a thread can be started")
}

fn not_there<T>(errand: Errand<T>, notify: &Notify<T>) {
    notify(Event::NotThere {
        session: errand.session,
        task: errand.task,
        work: errand.work,
    });
}

/// Closes a connection after a fault; what waits for it is told.
fn closed<T: Work + 'static>(
    connection: Box<dyn Connection>,
    inbox: &Receiver<Errand<T>>,
    notify: &Notify<T>,
) {
    let _ = catch_unwind(AssertUnwindSafe(|| drop(connection)));
    for errand in inbox {
        errand.undone(
            fault(
                Fault::NotSent,
                "the connection was closed after a fault inside this program",
            ),
            notify,
        );
    }
}

/// Does one piece of work on a connection; false if the connection is of no more use.
fn one<T: Work + 'static>(
    connection: &mut dyn Connection,
    errand: Errand<T>,
    is_beside: bool,
    notify: &Notify<T>,
) -> bool {
    if let Some(bearings) = errand.bearings.as_deref().filter(|_| is_beside) {
        let there = catch_unwind(AssertUnwindSafe(|| match connection.served() {
            Some(server) => server.follow(bearings),
            None => Ok(()),
        }));
        match there {
            Ok(Ok(())) => {}
            Ok(Err(error)) if !is_lost(&error) => {
                errand.undone(error, notify);
                return true;
            }
            _ => {
                not_there(errand, notify);
                return false;
            }
        }
    }
    done(Some((connection, is_beside)), errand, notify)
}

fn is_lost(error: &EngineError) -> bool {
    matches!(error.fault, Fault::Lost | Fault::NotSent)
}

fn done<T: Work + 'static>(
    mut connection: Option<(&mut dyn Connection, bool)>,
    errand: Errand<T>,
    notify: &Notify<T>,
) -> bool {
    let Errand {
        session,
        task,
        mut work,
        stop,
        ..
    } = errand;
    let start = Instant::now();
    let told = Arc::clone(notify);
    let reporter = Reporter(Arc::new(move |progress| {
        told(Event::Progress(session, task, progress))
    }));
    let mut well = true;
    let how = if stop.load(Ordering::Relaxed) {
        Err(stopped())
    } else {
        let mut bench = Bench {
            connection: connection
                .as_mut()
                .map(|(connection, _)| &mut **connection as &mut dyn Connection),
            ticket: task,
            stop: &stop,
            reporter: &reporter,
        };
        catch_unwind(AssertUnwindSafe(|| work.work(&mut bench))).unwrap_or_else(|_| {
            well = false;
            let kind = if connection.is_some() {
                Fault::Lost
            } else {
                Fault::Other
            };
            Err(fault(kind, "a fault inside this program ended it"))
        })
    };
    let took = start.elapsed();
    let bearings = match &mut connection {
        // What a second connection lacks, the first may have.
        Some((_, true)) => {
            if how.as_ref().is_err_and(is_lost) {
                notify(Event::NotThere {
                    session,
                    task,
                    work,
                });
                return false;
            }
            None
        }
        Some((connection, false)) => {
            let asked = catch_unwind(AssertUnwindSafe(|| {
                (Box::new(connection.bearings()), connection.dialect())
            }));
            well &= asked.is_ok();
            asked.ok()
        }
        None => None,
    };
    notify(Event::Ended {
        session,
        task,
        work,
        how,
        took,
        bearings,
    });
    well
}
