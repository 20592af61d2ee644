//! Who speaks, and what the server is: greetings, logins, users, what runs.

use super::*;

impl Connection {
    pub(super) fn status(&self) -> Document {
        let counters: Document = lock(&self.server.counters)
            .iter()
            .map(|(name, count)| (name.as_str(), *count as i64))
            .collect();
        document! {
            "host": "localhost",
            "version": "7.0.0",
            "process": "practice server",
            "uptime": self.server.started.elapsed().as_secs_f64(),
            "opcounters": counters,
        }
    }

    pub(super) fn connection_status(&self) -> Document {
        let (mut users, mut roles) = (Vec::new(), Vec::new());
        if let Some(user) = &self.user {
            users.push(Datum::from(
                document! { "user": user.name.as_str(), "db": user.database.as_str() },
            ));
            roles.extend(user.roles.iter().map(|(role, db)| {
                Datum::from(document! { "role": role.as_str(), "db": db.as_str() })
            }));
        }
        document! { "authInfo": document! { "authenticatedUsers": Datum::List(users), "authenticatedUserRoles": Datum::List(roles) } }
    }

    pub(super) fn sasl_start(&mut self, database: &str, command: &Document) -> Reply {
        if text(command, "mechanism") != Some("SCRAM-SHA-256") {
            return Err(Failed::new(
                334,
                "Unsupported mechanism; the practice server knows SCRAM-SHA-256",
            ));
        }
        let Some(Datum::Bytes(payload)) = command.get("payload") else {
            return Err(Failed::new(18, "Authentication failed."));
        };
        let users = self
            .server
            .users
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone();
        let find = |name: &str| {
            users
                .iter()
                .find(|u| u.name == name && (u.database == database || database == "admin"))
                .cloned()
        };
        let (exchange, answer) = Exchange::begin(&payload.1, &find)?;
        self.exchange = Some(exchange);
        Ok(
            document! { "conversationId": 1, "done": false, "payload": Datum::Bytes(Box::new((0, answer))) },
        )
    }

    pub(super) fn sasl_continue(&mut self, command: &Document) -> Reply {
        let (Some(exchange), Some(Datum::Bytes(payload))) =
            (self.exchange.as_mut(), command.get("payload"))
        else {
            return Err(Failed::new(18, "Authentication failed."));
        };
        let (answer, user) = exchange.go_on(&payload.1)?;
        // The client has to see the server's proof before it is done, unless it skips the empty exchange.
        let done = user.is_some();
        if let Some(user) = user {
            self.user = Some(user);
        }
        Ok(
            document! { "conversationId": 1, "done": done, "payload": Datum::Bytes(Box::new((0, answer))) },
        )
    }

    pub(super) fn users(&self, name: &str, database: &str, command: &Document) -> Reply {
        let roles = |value: Option<&Datum>| -> Vec<(String, String)> {
            let list = value.and_then(Datum::as_list).unwrap_or_default();
            list.iter()
                .filter_map(|role| match role {
                    Datum::Text(role) => Some((role.to_string(), database.to_string())),
                    Datum::Object(o) => Some((
                        text(o, "role")?.to_string(),
                        text(o, "db").unwrap_or(database).to_string(),
                    )),
                    _ => None,
                })
                .collect()
        };
        if name == "rolesInfo" {
            let all = [
                "read",
                "readWrite",
                "dbAdmin",
                "userAdmin",
                "dbOwner",
                "readAnyDatabase",
                "readWriteAnyDatabase",
                "root",
            ];
            let all = all.map(|role| Datum::from(document! { "role": role, "db": database, "isBuiltin": true, "roles": Datum::List(vec![]), "inheritedRoles": Datum::List(vec![]) }));
            return Ok(document! { "roles": Datum::List(all.to_vec()) });
        }
        let mut users = self
            .server
            .users
            .write()
            .unwrap_or_else(PoisonError::into_inner);
        let wanted_name = command
            .fields
            .first()
            .and_then(|(_, v)| v.as_text())
            .unwrap_or_default()
            .to_string();
        let at = users
            .iter()
            .position(|u| u.name == wanted_name && u.database == database);
        match (name, at) {
            ("usersInfo", _) => {
                // A name, or `{ user, db }`; `{ forAllDBs: true }` for those of every database.
                let wanted = command.fields.first().map(|(_, v)| v);
                let (one, of) = match wanted {
                    Some(Datum::Text(name)) => (Some(name.to_string()), Some(database)),
                    Some(Datum::Object(o)) if o.get("forAllDBs").is_some() => (None, None),
                    Some(Datum::Object(o)) => (
                        text(o, "user").map(str::to_string),
                        Some(text(o, "db").unwrap_or(database)),
                    ),
                    _ => (None, Some(database)),
                };
                let is_wanted = |u: &&User| {
                    one.as_ref().is_none_or(|name| u.name == *name)
                        && of.is_none_or(|of| u.database == of)
                };
                let shown = users.iter().filter(is_wanted).map(|u| {
                    let roles = u.roles.iter().map(|(r, d)| Datum::from(document! { "role": r.as_str(), "db": d.as_str() })).collect();
                    document! { "_id": format!("{}.{}", u.database, u.name), "user": u.name.as_str(), "db": u.database.as_str(), "roles": Datum::List(roles), "mechanisms": vec!["SCRAM-SHA-256"] }.into()
                });
                Ok(document! { "users": Datum::List(shown.collect()) })
            }
            ("createUser", None) => {
                let password = text(command, "pwd")
                    .filter(|p| !p.is_empty())
                    .ok_or_else(|| Failed::new(2, "a user needs a password"))?;
                users.push(User::new(
                    database,
                    &wanted_name,
                    password,
                    roles(command.get("roles")),
                ));
                Ok(Document::new())
            }
            ("createUser", Some(_)) => Err(Failed::new(
                51003,
                format!("User \"{wanted_name}@{database}\" already exists"),
            )),
            (_, None) => Err(Failed::new(
                11,
                format!("User '{wanted_name}@{database}' not found"),
            )),
            ("updateUser", Some(at)) => {
                let kept = if command.get("roles").is_some() {
                    roles(command.get("roles"))
                } else {
                    users[at].roles.clone()
                };
                match text(command, "pwd") {
                    Some(password) => users[at] = User::new(database, &wanted_name, password, kept),
                    None => users[at].roles = kept,
                }
                Ok(Document::new())
            }
            (_, Some(at)) => {
                users.remove(at);
                Ok(Document::new())
            }
        }
    }

    /// `hello`, `isMaster`, `ismaster`.
    pub(super) fn hello(&mut self, request: &Request<'_>) -> Reply {
        let Request { command, .. } = *request;

        if let Some(client) = object(command, "client") {
            let application = object(client, "application").and_then(|a| text(a, "name"));
            self.application = application.map(str::to_string);
        }
        let mut reply = self.server.hello(self.number);
        if command.get("saslSupportedMechs").is_some() {
            reply.set("saslSupportedMechs", vec!["SCRAM-SHA-256"]);
        }
        Ok(reply)
    }

    /// `endSessions`.
    pub(super) fn end_sessions(&mut self, command: &Document) -> Reply {
        for ended in list(command, "endSessions").unwrap_or_default() {
            if let Some(Datum::Bytes(id)) = ended.as_object().and_then(|s| s.get("id")) {
                lock(&self.server.sessions).remove(&id.1);
                lock(&self.server.answered).remove(&id.1);
            }
        }
        Ok(Document::new())
    }

    /// The sessions in use, as `$listLocalSessions` shows them.
    pub(super) fn local_sessions(&self) -> Vec<Document> {
        let sessions = lock(&self.server.sessions);
        let shown = sessions.iter().map(|(id, used)| {
            let id = document! { "id": Datum::Bytes(Box::new((4, id.clone()))), "uid": Datum::Bytes(Box::new((0, vec![0; 32]))) };
            document! { "_id": id, "lastUse": Datum::Date(*used) }
        });
        shown.collect()
    }

    /// `startSession`.
    pub(super) fn start_session(&mut self, _: &Request<'_>) -> Reply {
        Ok(
            document! { "id": document! { "id": Datum::Bytes(Box::new((4, self.server.number().to_be_bytes().repeat(2)))) }, "timeoutMinutes": 30 },
        )
    }

    /// `buildInfo`, `buildinfo`.
    pub(super) fn build_info(&mut self, _: &Request<'_>) -> Reply {
        Ok(document! {
            "version": "7.0.0",
            "versionArray": vec![7, 0, 0, 0],
            "modules": Datum::List(vec![]),
            "practiceServer": format!("Idle Tide practice server {}: a stand-in, not a database to keep things in", env!("CARGO_PKG_VERSION")),
            "maxBsonObjectSize": 16_777_216,
        })
    }

    /// `currentOp`.
    pub(super) fn current_op(&mut self, _: &Request<'_>) -> Reply {
        let running: Vec<Datum> = lock(&self.server.operations)
                    .iter()
                    .map(|(id, op)| {
                        let mut shown = document! { "opid": *id, "active": true, "op": "command", "ns": format!("{}.$cmd", op.database), "command": op.command.clone(), "microsecs_running": op.started.elapsed().as_micros() as i64 };
                        if let Some(comment) = op.command.get("comment") {
                            shown.set("comment", comment.clone());
                        }
                        shown.into()
                    })
                    .collect();
        Ok(document! { "inprog": Datum::List(running) })
    }

    /// `killOp`.
    pub(super) fn kill_op(&mut self, request: &Request<'_>) -> Reply {
        let Request { command, .. } = *request;

        let id = command.get("op").and_then(Datum::as_i64).unwrap_or(-1);
        if let Some(operation) = lock(&self.server.operations).get(&id) {
            operation.killed.store(true, Ordering::SeqCst);
        }
        Ok(document! { "info": "attempting to kill op" })
    }

    /// `practiceCut`.
    pub(super) fn practice_cut(&mut self, request: &Request<'_>) -> Reply {
        if !self.server.settings.tests {
            return Err(no_such(request.name));
        }
        let Request { command, .. } = *request;

        let which = text(command, "practiceCut").unwrap_or_default().to_string();
        let times = command
            .get("times")
            .and_then(Datum::as_i64)
            .unwrap_or(1)
            .max(1) as u64;
        *lock(&self.server.cut) = Some((which, times));
        Ok(Document::new())
    }
}
