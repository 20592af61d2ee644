//! Encryption, logins, users and passwords, by our engine against the practice server.

use std::path::Path;
use std::process::Command;

use idle_tide_dock::server::{Listening, Server, Settings, Store, Tls, listen};
use idle_tide_engines::{
    Connection, LinkState, Listing, OpenError, OpenOptions, Proof, Silent, Source, Trouble, open,
};

use crate::place::{connect, run, server};

/// Certificates in `folder`: an authority `ca`, another one `other`, and `server` for 127.0.0.1 by the first.
fn certificates(folder: &Path) {
    let openssl = |arguments: &str| {
        let done = Command::new("openssl")
            .args(arguments.split(' '))
            .current_dir(folder)
            .output()
            .expect("openssl runs; scripts/setup --tests installs it");
        let said = String::from_utf8_lossy(&done.stderr);
        assert!(done.status.success(), "{said}");
    };
    for name in ["ca", "other"] {
        openssl(&format!(
            "req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN={name} -addext basicConstraints=critical,CA:TRUE -keyout {name}.key -out {name}.crt"
        ));
    }
    openssl("req -newkey rsa:2048 -nodes -subj /CN=server -keyout server.key -out server.csr");
    std::fs::write(folder.join("names"), "subjectAltName=IP:127.0.0.1\n").expect("written");
    openssl(
        "x509 -req -in server.csr -CA ca.crt -CAkey ca.key -CAcreateserial -days 30 -out server.crt -extfile names",
    );
}

fn refused(address: &str) -> OpenError {
    let source = Source::parse(address).expect("an address");
    match open(&source, OpenOptions::default(), &Silent) {
        Ok(_) => panic!("{address} was opened"),
        Err(error) => error,
    }
}

#[test]
fn an_encrypted_link_is_verified_and_says_so() {
    let folder = tempfile::tempdir().expect("a folder");
    certificates(folder.path());
    let file = |name: &str| folder.path().join(name).display().to_string();
    let tls = Tls::of_files(
        &folder.path().join("server.crt"),
        &folder.path().join("server.key"),
    );
    let mut store = Store::default();
    let landings = idle_tide_dock::harbour::collection("landings", 300);
    store.fill("haven", "landings", landings).expect("filled");
    let server = Server::new(store, Settings::default());
    let listening = listen(server, 0, Some(tls.expect("certificates"))).expect("listens");
    let at = |options: &str| {
        let port = listening.address.port();
        format!("mongodb://127.0.0.1:{port}/haven?serverSelectionTimeoutMS=3000{options}")
    };
    let verified = |address: &str| {
        let mut connection = connect(address);
        let (rows, _) = run(&mut *connection, "from landings").expect("answers");
        // Frames of several records come whole.
        assert_eq!(rows.len(), 300);
        match connection
            .bearings()
            .server
            .as_ref()
            .map(|s| s.link.clone())
        {
            Some(LinkState::Encrypted { proof, .. }) => proof == Proof::Name,
            other => panic!("{other:?}"),
        }
    };
    assert!(verified(&at(&format!(
        "&tls=true&tlsCAFile={}",
        file("ca.crt")
    ))));
    assert!(!verified(&at("&tls=true&tlsInsecure=true")));
    let other = refused(&at(&format!("&tls=true&tlsCAFile={}", file("other.crt"))));
    assert_eq!(other.trouble, Trouble::Tls, "{other:?}");
    let missing = refused(&at(&format!("&tls=true&tlsCAFile={}", file("none.crt"))));
    assert!(missing.to_string().contains("none.crt"), "{missing:?}");
    let plain = refused(&at(""));
    assert!(plain.headline.contains("127.0.0.1"), "{plain:?}");
}

#[test]
fn users_are_made_given_passwords_and_removed() {
    let listening: Listening = server(Settings {
        login: true,
        ..Settings::default()
    });
    listening
        .server()
        .add_user("admin", "pilot", "harbour", &["root"]);
    let at = |login: &str, source: &str| {
        let port = listening.address.port();
        format!("mongodb://{login}@127.0.0.1:{port}/haven?authSource={source}")
    };
    let mut pilot = connect(&at("pilot:harbour", "admin"));
    let mut say = |statement: &str| {
        let (_, outcome) =
            run(&mut *pilot, statement).unwrap_or_else(|e| panic!("{statement}: {e:?}"));
        outcome.made.join(" ")
    };
    assert_eq!(
        say("create user mate with roles ['read'] password 'first tide'"),
        "The user mate was made in haven, where it logs in."
    );
    let mut mate = connect(&at("mate:first%20tide", "haven"));
    assert_eq!(
        run(&mut *mate, "from landings count")
            .expect("reads")
            .0
            .len(),
        1
    );
    let mut other = connect(&at("pilot:harbour", "admin"));
    let told = |of: &mut dyn Connection, list| of.describe().listing(list).expect("a list").sql;
    let mates = told(&mut *mate, Listing::Access(None));
    assert!(mates.contains("role: 'read on haven'"), "{mates}");
    let users = told(&mut *other, Listing::Roles(false));
    assert!(users.contains("roles: 'read on haven'"), "{users}");
    // Those of other databases are told there.
    assert!(!users.contains("'pilot'"), "{users}");
    let error = run(&mut *mate, "insert into landings { a: 1 }").expect_err("only reads");
    assert!(
        error.message.contains("not authorized") || error.code.starts_with("13"),
        "{error:?}"
    );
    assert_eq!(
        say("change password of mate to 'second tide'"),
        "The password of mate was changed."
    );
    let error = refused(&at("mate:first%20tide", "haven"));
    assert_eq!(error.trouble, Trouble::Login, "{error:?}");
    let told = error.to_string();
    assert!(
        told.contains("looked for in the database haven") && !told.contains("labels"),
        "{told}"
    );
    connect(&at("mate:second%20tide", "haven"));
    // One's own, which the next connection uses.
    assert_eq!(
        say("change password to 'low water'"),
        "Your password was changed."
    );
    connect(&at("pilot:low%20water", "admin"));
    assert_eq!(say("drop user mate"), "The user mate was removed.");
    let error = refused(&at("mate:second%20tide", "haven"));
    assert_eq!(error.trouble, Trouble::Login, "{error:?}");
}

#[test]
fn a_host_that_nobody_knows_is_said_in_a_few_words() {
    let error = refused("mongodb://no-such-host.invalid/haven?serverSelectionTimeoutMS=500");
    assert_eq!(error.trouble, Trouble::NameNotFound, "{error:?}");
    assert!(!error.to_string().contains("labels"), "{error}");
}
