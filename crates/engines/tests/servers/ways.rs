//! Who answers, and by which way: two servers on one machine, TLS, a secure shell, a command.

use std::process::Command;
use std::sync::Mutex;

use idle_tide_engines::open as open_source;
use idle_tide_engines::{
    Ask, Connection, LinkState, OpenError, OpenOptions, Overrides, Proof, Source, Trouble, open,
};

use crate::place::{
    Answers, SECOND, connect, first, free_port, one, open_with, place, servers, url,
};

fn opened(
    address: &str,
    more: &Overrides,
    answers: Answers,
) -> Result<Box<dyn Connection>, OpenError> {
    open(
        &Source::parse_with(address, more)?,
        OpenOptions::default(),
        &answers,
    )
}

fn says(answer: bool, secrets: Vec<&'static str>) -> Answers {
    Answers(Mutex::new(secrets), answer)
}

/// Answers whether to go on, the last one first.
struct InTurn(Mutex<Vec<bool>>);

impl Ask for InTurn {
    fn secret(&self, _: &str) -> Option<secrecy::SecretString> {
        None
    }
    fn allow(&self, _: &str, _: &[String]) -> bool {
        self.0.lock().expect("no panic").pop().expect("an answer")
    }
    fn tell(&self, _: &str) {}
}

fn way(user: &str) -> String {
    format!("{user}@127.0.0.1:{}", place("HAVEN_SSHD_PORT"))
}

fn account() -> String {
    place("HAVEN_SSH_ACCOUNT")
}

fn sshd(file: &str) -> String {
    format!("{}/sshd/{file}", place("HAVEN_SERVERS"))
}

#[test]
fn the_server_that_was_addressed_answers() {
    let home = tempfile::tempdir().expect("a folder");
    let known = home.path().join("known");
    for server in ["mariadb", "mariadb-b"] {
        let port = place(&format!(
            "HAVEN_{}_PORT",
            server.to_uppercase().replace('-', "_")
        ));
        let mut direct = connect(server, "");
        assert_eq!(one(&mut *direct, "select @@port"), port);
        let socket = format!(
            "mariadb://haven:the%20owner%27s%20secret@/?socket={}/{server}/socket/mariadb.sock",
            place("HAVEN_SERVERS")
        );
        let mut local = open_with(&socket, Vec::new()).expect("opens");
        assert_eq!(one(&mut *local, "select @@port"), port);
        assert_eq!(
            local.bearings().server.expect("server").link,
            LinkState::Socket
        );
        let key = format!(
            "{}?via={}&via-key={}&via-known-hosts={}",
            url(server, ""),
            way(&account()),
            sshd("key"),
            known.display()
        );
        let mut far = opened(&key, &Overrides::default(), says(true, vec![]))
            .unwrap_or_else(|e| panic!("{e}"));
        assert_eq!(one(&mut *far, "select @@port"), port);
        let at = far.bearings().server.expect("server");
        assert!(at.way.contains("through"), "{at:?}");
        assert!(matches!(at.link, LinkState::Encrypted { .. }));
        // A second connection, and a cancel, take the same way.
        let mut beside =
            far.served().expect("a server").beside().expect("beside")().expect("opens");
        assert_eq!(one(&mut *beside, "select @@port"), port);
    }
}

#[test]
fn a_secure_shell_is_checked_and_lets_in_by_key_and_by_password() {
    let home = tempfile::tempdir().expect("a folder");
    let known = home.path().join("known");
    let address = |key: Option<&str>| {
        let key = key
            .map(|key| format!("&via-key={}", sshd(key)))
            .unwrap_or_default();
        format!(
            "{}?via={}{key}&via-known-hosts={}",
            url("postgres", "postgres"),
            way(&account()),
            known.display()
        )
    };
    let open = |text: String, answers| opened(&text, &Overrides::default(), answers);
    // A host that is not known is asked about; without a yes nothing is sent.
    let error = open(address(Some("key")), says(false, vec![]))
        .err()
        .expect("refused");
    assert_eq!(error.trouble, Trouble::Way, "{error}");
    assert!(
        error.to_string().contains("not accepted") && !known.exists(),
        "{error}"
    );
    let mut c = open(address(Some("key")), says(true, vec![])).unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(one(&mut *c, "select 7"), "7");
    assert!(
        std::fs::read_to_string(&known)
            .expect("remembered")
            .contains("127.0.0.1")
    );
    // Known now: nothing is asked.
    open(address(Some("key")), says(false, vec![])).unwrap_or_else(|e| panic!("{e}"));
    let mut c = open(
        address(Some("locked_key")),
        says(false, vec!["the phrase of the key", "not the phrase"]),
    )
    .unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(one(&mut *c, "select 7"), "7");
    if account().starts_with("tide-pilot") {
        let mut c = open(address(None), says(false, vec!["way in by word", "wrong"]))
            .unwrap_or_else(|e| panic!("{e}"));
        assert_eq!(one(&mut *c, "select 7"), "7");
        let error = open(address(None), says(false, vec!["wrong", "wrong", "wrong"]))
            .err()
            .expect("refused");
        assert!(error.to_string().contains("does not let"), "{error}");
    }
    // A key that cannot be remembered is asked about, and no is no.
    let nowhere = address(Some("key")).replace(&known.display().to_string(), "/dev/null/known");
    let source = Source::parse(&nowhere).expect("an address");
    let answers = |second| InTurn(Mutex::new(vec![second, true]));
    let error = open_source(&source, OpenOptions::default(), &answers(false))
        .err()
        .expect("refused");
    assert!(
        error.to_string().contains("could not be remembered"),
        "{error}"
    );
    open_source(&source, OpenOptions::default(), &answers(true)).unwrap_or_else(|e| panic!("{e}"));
    // Another key than the known one is refused, whatever is answered.
    let other = std::fs::read_to_string(sshd("other_host.pub")).expect("a key");
    let key: Vec<&str> = other.split(' ').take(2).collect();
    std::fs::write(
        &known,
        format!(
            "[127.0.0.1]:{} {}\n",
            place("HAVEN_SSHD_PORT"),
            key.join(" ")
        ),
    )
    .expect("written");
    let error = open(address(Some("key")), says(true, vec!["x"]))
        .err()
        .expect("refused");
    assert!(
        error.to_string().contains("not the one that is known"),
        "{error}"
    );
    // A server that the host cannot reach.
    std::fs::remove_file(&known).expect("removed");
    let nobody = address(Some("key")).replace(
        &format!(":{}/postgres", place("HAVEN_POSTGRES_PORT")),
        ":9/postgres",
    );
    let error = open(nobody, says(true, vec![])).err().expect("refused");
    assert_eq!(error.trouble, Trouble::Way, "{error}");
}

#[test]
fn a_command_carries_the_connection() {
    // What a relay in a container would do, without a container.
    for server in servers() {
        let database = first(server);
        let port = place(&format!("HAVEN_{}_PORT", server.to_uppercase()));
        let relay = "import socket,sys,threading,os\ns=socket.create_connection(('127.0.0.1',int(sys.argv[1])))\ndef up():\n while True:\n  b=os.read(0,65536)\n  if not b: break\n  s.sendall(b)\n os._exit(0)\nthreading.Thread(target=up,daemon=True).start()\nwhile True:\n b=s.recv(65536)\n if not b: break\n os.write(1,b)";
        let with_python = Command::new("python3")
            .arg("-V")
            .output()
            .is_ok_and(|o| o.status.success());
        let command = if with_python {
            format!("python3 -c \"{relay}\" {port}")
        } else {
            format!("bash -c 'exec 3<>/dev/tcp/127.0.0.1/{port}; cat <&3 & exec cat >&3'")
        };
        let more = Overrides {
            through: Some(command),
            ..Overrides::default()
        };
        let address = url(server, database).replace("127.0.0.1", "inside.example");
        let mut c = opened(&format!("{address}?tls=require"), &more, says(true, vec![]))
            .unwrap_or_else(|e| panic!("{server}: {e}"));
        assert_eq!(one(&mut *c, "select 7"), "7");
        let at = c.bearings().server.expect("server");
        assert_eq!(at.way, "through a command");
        assert!(matches!(at.link, LinkState::Encrypted { .. }), "{at:?}");
        let mut beside = c.served().expect("a server").beside().expect("beside")().expect("opens");
        assert_eq!(one(&mut *beside, "select 8"), "8");
        // An authority that vouches for another name.
        let authority = format!("{}/tls/ca.crt", place("HAVEN_SERVERS"));
        let of_mode = |mode: &str| {
            let address = format!("{address}?tls={mode}&tls-authority={authority}");
            opened(&address, &more, says(true, vec![]))
        };
        let error = of_mode("verify").err().expect("refused");
        assert_eq!(error.trouble, Trouble::Tls, "{server}: {error}");
        assert!(error.checks[0].contains("tls=authority"), "{error}");
        let mut c = of_mode("authority").unwrap_or_else(|e| panic!("{server}: {e}"));
        assert!(matches!(
            c.bearings().server.expect("server").link,
            LinkState::Encrypted {
                proof: Proof::Authority,
                ..
            }
        ));
        let broken = Overrides {
            through: Some("echo the gate is shut >&2; exit 7".into()),
            ..Overrides::default()
        };
        let error = opened(&address, &broken, says(true, vec![]))
            .err()
            .expect("refused");
        assert_eq!(error.trouble, Trouble::Way, "{error}");
    }
}

#[test]
fn certificates_are_checked() {
    let tls = |file: &str| format!("{}/tls/{file}", place("HAVEN_SERVERS"));
    for server in servers() {
        let database = first(server);
        let with = |more: &str| open_with(&format!("{}?{more}", url(server, database)), vec![]);
        let mut c = with(&format!("tls=verify&tls-authority={}", tls("ca.crt")))
            .unwrap_or_else(|e| panic!("{server}: {e}"));
        let at = c.bearings().server.expect("server");
        assert!(
            matches!(
                at.link,
                LinkState::Encrypted {
                    proof: Proof::Name,
                    ..
                }
            ),
            "{at:?}"
        );
        let error = with(&format!("tls=authority&tls-authority={}", tls("other.crt")))
            .err()
            .expect("refused");
        assert_eq!(error.trouble, Trouble::Tls, "{server}: {error}");
        let error = with(&format!("tls=verify&tls-authority={}", tls("other.crt")))
            .err()
            .expect("refused");
        assert_eq!(error.trouble, Trouble::Tls, "{server}: {error}");
        let error = with("tls=verify").err().expect("refused");
        assert_eq!(error.trouble, Trouble::Tls, "{server}: {error}");
        let error = with(&format!("tls=verify&tls-authority={}", tls("nothing.crt")))
            .err()
            .expect("refused");
        assert!(error.to_string().contains("nothing.crt"), "{error}");
        let mut c = with("tls=off").unwrap_or_else(|e| panic!("{server}: {e}"));
        assert_eq!(c.bearings().server.expect("server").link, LinkState::Open);
        let client = format!(
            "tls=require&tls-certificate={}&tls-key={}",
            tls("client.crt"),
            tls("client.key")
        );
        with(&client).unwrap_or_else(|e| panic!("{server}: {e}"));
        let error = with(&format!("tls=require&tls-key={}", tls("client.key")))
            .err()
            .expect("refused");
        assert_eq!(error.trouble, Trouble::Tls, "{error}");
        // The cancel goes over an encrypted link too.
        let mut c = with("tls=require").unwrap_or_else(|e| panic!("{server}: {e}"));
        let control = c.control();
        std::thread::spawn(move || {
            std::thread::sleep(std::time::Duration::from_millis(200));
            control.cancel(3);
        });
        let sleep = if server == "postgres" {
            "select pg_sleep(30)"
        } else {
            "select count(*) from information_schema.collations a, information_schema.collations b, information_schema.collations c, information_schema.collations d"
        };
        let error = c
            .run(3, sleep, &mut crate::place::Keep::default())
            .expect_err("cancelled");
        assert_eq!(
            error.fault,
            idle_tide_engines::Fault::Cancelled,
            "{server}: {error:?}"
        );
    }
}

#[test]
fn what_keeps_one_out_is_told_apart() {
    let free = free_port();
    for server in servers() {
        let database = first(server);
        let scheme = server;
        let address = url(server, database);
        let trouble = |address: &str| {
            open_with(address, vec!["x", "x", "x"])
                .err()
                .expect("refused")
                .trouble
        };
        assert_eq!(
            trouble(&format!("{scheme}://u@127.0.0.1:{free}/")),
            Trouble::Refused
        );
        assert_eq!(
            trouble(&format!("{scheme}://u@no-such-host.invalid/")),
            Trouble::NameNotFound
        );
        assert_eq!(
            trouble(&format!("{scheme}://u@/?socket=/nowhere/sock")),
            Trouble::Refused
        );
        assert_eq!(
            trouble(&format!(
                "{}no_such_database",
                address.trim_end_matches("postgres")
            )),
            Trouble::NoDatabase
        );
        assert_eq!(
            trouble(&address.replace("the%20owner", "another")),
            Trouble::Login
        );
        // Something else listens there.
        let other = if server == "postgres" {
            "MARIADB"
        } else {
            "POSTGRES"
        };
        let wrong = format!(
            "{scheme}://u@127.0.0.1:{}/",
            place(&format!("HAVEN_{other}_PORT"))
        );
        assert!(
            matches!(trouble(&wrong), Trouble::Other | Trouble::NoRoute),
            "{server}"
        );
    }
    let mut admin = connect("mariadb", "");
    crate::place::run(
        &mut *admin,
        "create or replace user crowd identified by 'x' with max_user_connections 1",
    )
    .expect("made");
    let crowd = url("mariadb", "").replace("haven:the%20owner%27s%20secret", "crowd:x");
    let _one = open_with(&crowd, vec![]).expect("the first comes in");
    assert_eq!(
        open_with(&crowd, vec![]).err().expect("refused").trouble,
        Trouble::TooMany
    );
    let mut admin = connect("postgres", "postgres");
    for sql in [
        "drop role if exists crowd",
        "create role crowd login password 'x' connection limit 1",
    ] {
        crate::place::run(&mut *admin, sql).expect("made");
    }
    let crowd = url("postgres", "postgres").replace("haven:the%20owner%27s%20secret", "crowd:x");
    let _one = open_with(&crowd, vec![]).expect("the first comes in");
    assert_eq!(
        open_with(&crowd, vec![]).err().expect("refused").trouble,
        Trouble::TooMany
    );
}

/// Of several hosts the first that answers and fits is taken, and what was passed over is said.
#[test]
fn the_first_of_several_hosts_that_fits_is_taken() {
    let _one = SECOND
        .lock()
        .unwrap_or_else(std::sync::PoisonError::into_inner);
    let free = free_port();
    for server in servers() {
        let second = format!("{server}-b");
        drop(crate::place::own(server, "members"));
        drop(crate::place::own(&second, "members"));
        let port = |server: &str| {
            let name = server.to_uppercase().replace('-', "_");
            place(&format!("HAVEN_{name}_PORT"))
        };
        let (here, there) = (port(server), port(&second));
        let of = |hosts: &str, more: &str| {
            let one = url(server, "members");
            let address = one.replace(&format!("127.0.0.1:{here}"), hosts);
            open_with(&format!("{address}{more}"), vec![])
        };
        let mut c = of(&format!("127.0.0.1:{free},localhost:{here}"), "")
            .unwrap_or_else(|e| panic!("{server}: {e}"));
        let bearings = c.bearings();
        let at = bearings.server.expect("a server");
        assert_eq!(at.place, format!("localhost:{here}"), "{server}");
        let said = bearings.warnings.join(" ");
        assert!(
            said.contains(&format!("Passed over in the address: 127.0.0.1:{free}")),
            "{said}"
        );
        // One that only reads, and one that takes writes.
        let both = format!("127.0.0.1:{there},127.0.0.1:{here}");
        if server == "postgres" {
            let mut other = connect(&second, "postgres");
            let set = "alter database members set default_transaction_read_only = on";
            crate::place::run(&mut *other, set).expect("set");
            let taken = |wants: &str| {
                let mut c = of(&both, &format!("?target_session_attrs={wants}"))
                    .unwrap_or_else(|e| panic!("{wants}: {e}"));
                c.bearings().server.expect("a server").place
            };
            assert_eq!(taken("any"), format!("127.0.0.1:{there}"));
            assert_eq!(taken("read-only"), format!("127.0.0.1:{there}"));
            assert_eq!(taken("read-write"), format!("127.0.0.1:{here}"));
        }
        let only_reads = of(
            &format!("127.0.0.1:{here}"),
            "?target_session_attrs=standby",
        );
        let error = only_reads.err().expect("it writes too");
        assert!(error.to_string().contains("writes too"), "{error}");
        // Who is refused by one is not tried at the next.
        let stranger = url(server, "").replace("haven:", "nobody:").replace(
            &format!("127.0.0.1:{here}"),
            &format!("127.0.0.1:{here},127.0.0.1:{there}"),
        );
        let error = open_with(&stranger, vec![]).err().expect("refused");
        assert_eq!(error.trouble, Trouble::Login, "{server}: {error}");
    }
}
