//! Where the session is, from what the server says.

use super::*;
use crate::engine::Proof;

impl Remote {
    pub(super) fn find_bearings(&mut self) {
        let hello = self
            .ask(&document! { "hello": 1 })
            .or_else(|_| self.ask(&document! { "isMaster": 1 }))
            .unwrap_or_default();
        let build = self.ask(&document! { "buildInfo": 1 }).unwrap_or_default();
        let status = self
            .ask(&document! { "connectionStatus": 1 })
            .unwrap_or_default();
        let info = status
            .get("authInfo")
            .and_then(Datum::as_object)
            .cloned()
            .unwrap_or_default();
        let user = info
            .get("authenticatedUsers")
            .and_then(Datum::as_list)
            .and_then(|l| l.first())
            .and_then(Datum::as_object)
            .and_then(|u| text(u, "user"));
        let roles: Vec<String> = info
            .get("authenticatedUserRoles")
            .and_then(Datum::as_list)
            .unwrap_or_default()
            .iter()
            .filter_map(|r| text(r.as_object()?, "role"))
            .collect();
        self.comments = hello
            .get("maxWireVersion")
            .and_then(Datum::as_i64)
            .unwrap_or(0)
            >= 9;
        let mut facts = Vec::new();
        let practice = text(&build, "practiceServer");
        if let Some(words) = &practice {
            facts.push(("what it is".into(), words.clone()));
        }
        facts.extend(of_member(&hello));
        let router = text(&hello, "msg").as_deref() == Some("isdbgrid");
        let has_transactions = hello.get("setName").is_some() || router;
        facts.push((
            "read preference".into(),
            self.address
                .option("readPreference")
                .unwrap_or_else(|| "primary".into()),
        ));
        let retries: Vec<&str> = ["retryReads", "retryWrites"]
            .into_iter()
            .filter(|o| self.address.option(o).as_deref() == Some("true"))
            .collect();
        let mut warnings = Vec::new();
        if !retries.is_empty() {
            warnings.push(format!(
                "The address turns on {}: the driver may send a statement a second time by itself.",
                retries.join(" and ")
            ));
        }
        let tls = matches!(self.client_options_tls(), Some(true));
        let insecure = self
            .address
            .option("tlsInsecure")
            .or_else(|| self.address.option("tlsAllowInvalidCertificates"))
            .as_deref()
            == Some("true");
        let link = if tls {
            LinkState::Encrypted {
                version: "TLS".into(),
                proof: if insecure { Proof::None } else { Proof::Name },
            }
        } else {
            LinkState::Open
        };
        self.bearings = Bearings {
            version: if practice.is_some() {
                "practice server".into()
            } else {
                text(&build, "version").unwrap_or_default()
            },
            database: self.database.name().to_string(),
            access: Access::Writable,
            server: Some(ServerBearings {
                process: 0,
                place: self.address.hosts.clone(),
                local: self.address.is_local(),
                way: String::new(),
                user: user.unwrap_or_else(|| "nobody".into()),
                role: None,
                all_powerful: roles.iter().any(|r| r == "root"),
                search_path: Vec::new(),
                time_zone: "UTC".into(),
                link,
                identity: text(&hello, "setName").unwrap_or_else(|| self.address.hosts.clone()),
            }),
            facts,
            warnings,
            has_transactions,
            ..Bearings::of("documents")
        };
    }

    pub(super) fn client_options_tls(&self) -> Option<bool> {
        let given = self
            .address
            .option("tls")
            .or_else(|| self.address.option("ssl"));
        match given.as_deref() {
            Some("true") => Some(true),
            Some(_) => Some(false),
            None => Some(self.address.text.starts_with("mongodb+srv://")),
        }
    }
}

fn text(of: &Document, name: &str) -> Option<String> {
    of.get(name).and_then(Datum::as_text).map(str::to_string)
}

/// What a server says of its place in a replica set.
fn of_member(hello: &Document) -> Vec<(String, String)> {
    let mut facts: Vec<(String, String)> = Vec::new();
    match text(hello, "setName") {
        Some(name) => {
            facts.push(("replica set".into(), name));
            if let Some(me) = text(hello, "me") {
                facts.push(("member".into(), me));
            }
            let role = if hello
                .get("isWritablePrimary")
                .or_else(|| hello.get("ismaster"))
                == Some(&Datum::Boolean(true))
            {
                "primary"
            } else {
                "secondary"
            };
            facts.push(("role of the member".into(), role.into()));
        }
        None => facts.push((
            "transactions".into(),
            "none: a server alone has none".into(),
        )),
    }
    facts
}
