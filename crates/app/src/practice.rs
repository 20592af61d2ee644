//! `idle-tide practice-server`: the practice server alone, until Ctrl-C; of documents, or over the Tabular Data Stream.

use std::io::Write;
use std::path::PathBuf;

use clap::Args;
use idle_tide_dock::server::{Server, Settings, Store, Tls, listen};
use idle_tide_engines::{OpenError, OpenOptions, Silent, Source, load_harbour, open};
use idle_tide_harbour::documents::{COLLECTIONS, LANDINGS};

/// Options of `practice-server`.
#[derive(Debug, Args)]
pub struct Practice {
    /// The port on this machine; 0 takes any that is free [default: 27117, with --tds 21433]
    #[arg(long, value_name = "PORT")]
    port: Option<u16>,
    /// Speak the Tabular Data Stream and Transact-SQL, as far as a stand-in does, instead of documents
    #[arg(long, conflicts_with_all = ["landings", "replica_set", "tests"])]
    tds: bool,
    /// Keep what it holds in this folder
    #[arg(long, value_name = "FOLDER")]
    data: Option<PathBuf>,
    /// Begin without the harbour
    #[arg(long)]
    empty: bool,
    /// How many landings the harbour has
    #[arg(long, value_name = "N", default_value_t = LANDINGS)]
    landings: u64,
    /// Ask for a login: this user, whose password is asked for
    #[arg(long, value_name = "NAME")]
    login: Option<String>,
    /// Encrypt with this certificate (PEM)
    #[arg(long, value_name = "FILE", requires = "key")]
    certificate: Option<PathBuf>,
    /// The key of the certificate (PEM)
    #[arg(long, value_name = "FILE", requires = "certificate")]
    key: Option<PathBuf>,
    /// Announce a replica set of this name, and with it transactions (and retryable writes, for tests)
    #[arg(long, value_name = "NAME")]
    replica_set: Option<String>,
    /// For tests: obey practiceCut, which cuts the link after a command ran, and the fail point failCommand
    #[arg(long)]
    tests: bool,
}

fn password_of(name: &str) -> Result<String, Box<dyn std::error::Error>> {
    let password = match std::env::var("IDLE_TIDE_PRACTICE_PASSWORD") {
        Ok(given) => given,
        Err(_) => rpassword::prompt_password(format!("idle-tide: password for {name}: "))?,
    };
    match password.is_empty() {
        true => Err(OpenError::plain("A login needs a password.").into()),
        false => Ok(password),
    }
}

/// The stand-in for servers over the Tabular Data Stream, with the harbour in it.
fn tabular(options: &Practice) -> Result<i32, Box<dyn std::error::Error>> {
    let (user, password) = match &options.login {
        Some(name) => (name.clone(), password_of(name)?),
        None => ("haven".to_string(), "practice".to_string()),
    };
    let mut wanted = idle_tide_standin::Options::new(&user, &password);
    wanted.listen.set_port(options.port.unwrap_or(21_433));
    wanted.folder.clone_from(&options.data);
    wanted.certificate = options.certificate.clone().zip(options.key.clone());
    let mut signals = signal_hook::iterator::Signals::new([
        signal_hook::consts::SIGINT,
        signal_hook::consts::SIGTERM,
    ])?;
    let standin = idle_tide_standin::Standin::start(&wanted).map_err(|words| {
        OpenError::plain(format!("The practice server does not start: {words}. --port names another port; 0 takes any that is free."))
    })?;
    let place = format!("tds://{user}@127.0.0.1:{}/harbour", standin.address.port());
    if !options.empty {
        // Only this process looks on; what it holds from an earlier time stays.
        let source = Source::parse(&format!("{place}?tls=try"))?;
        source.set_password(password.clone().into());
        let mut connection = open(&source, OpenOptions::default(), &Silent)?;
        let there = connection
            .describe()
            .catalog(0, &mut |_| {})
            .is_ok_and(|c| !c.objects.is_empty());
        if !there {
            load_harbour(&mut *connection, &idle_tide_harbour::Settings::default())?;
        }
    }
    let mut out = std::io::stdout();
    let _ = writeln!(out, "practice server at {place}");
    if options.login.is_none() {
        let _ = writeln!(out, "the password of {user} is {password}");
    }
    let _ = writeln!(
        out,
        "a stand-in for practice, not a database to keep things in; Ctrl-C ends it"
    );
    // Whoever read the address may not care for more.
    let _ = out.flush();
    signals.forever().next();
    drop(standin);
    let _ = writeln!(out, "ended");
    Ok(0)
}

/// Runs it until a signal ends it; answers the exit code.
///
/// # Errors
/// In whole sentences.
pub fn run(options: &Practice) -> Result<i32, Box<dyn std::error::Error>> {
    if options.tds {
        return tabular(options);
    }
    let plain = |words: String| OpenError::plain(words);
    let port = options.port.unwrap_or(27117);
    let mut store = match &options.data {
        Some(folder) => Store::in_folder(folder)
            .map_err(|e| plain(format!("{} cannot be read: {e}.", folder.display())))?,
        None => Store::default(),
    };
    if !options.empty && store.databases.is_empty() {
        for name in COLLECTIONS {
            let documents = idle_tide_dock::harbour::collection(name, options.landings);
            store.fill("harbour-log", name, documents)?;
        }
    }
    let settings = Settings {
        replica_set: options.replica_set.clone(),
        login: options.login.is_some(),
        tests: options.tests,
    };
    let server = Server::new(store, settings);
    if let Some(name) = &options.login {
        let password = password_of(name)?;
        server.add_user("admin", name, &password, &["root"]);
    }
    let tls = match (&options.certificate, &options.key) {
        (Some(certificate), Some(key)) => Some(Tls::of_files(certificate, key)?),
        _ => None,
    };
    let mut signals = signal_hook::iterator::Signals::new([
        signal_hook::consts::SIGINT,
        signal_hook::consts::SIGTERM,
    ])?;
    let encrypted = tls.is_some();
    let listening = listen(server, port, tls)
        .map_err(|e| plain(format!("Port {port} of this machine cannot be taken: {e}. --port names another; 0 takes any that is free.")))?;
    let mut out = std::io::stdout();
    let rest = if encrypted { "?tls=true" } else { "" };
    let _ = writeln!(
        out,
        "practice server at mongodb://127.0.0.1:{}/harbour-log{rest}",
        listening.address.port()
    );
    let _ = writeln!(
        out,
        "a stand-in for practice, not a database to keep things in; Ctrl-C ends it"
    );
    // Whoever read the address may not care for more.
    let _ = out.flush();
    signals.forever().next();
    listening
        .end()
        .map_err(|e| plain(format!("Not everything could be written: {e}.")))?;
    let _ = writeln!(
        out,
        "ended{}",
        if options.data.is_some() {
            "; what it held is written"
        } else {
            ""
        }
    );
    Ok(0)
}
