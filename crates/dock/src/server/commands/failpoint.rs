//! The fail point `failCommand`, by which test suites have commands fail (public description of fail points in the drivers' specifications).

use super::*;

/// What is to happen to commands, and how often.
pub(super) struct FailPoint {
    left: u64,
    commands: Vec<String>,
    application: Option<String>,
    data: Document,
}

/// What happens to one command.
pub(super) enum Fails {
    /// The link is cut before it runs.
    Cut,
    /// It does not run, and this is the answer.
    Instead(Document),
    /// It runs, and this is said beside its answer.
    Beside(Document),
}

/// Codes after which a write may be tried again (drivers' specification of retryable writes).
const RETRYABLE: &[i32] = &[
    6, 7, 89, 91, 134, 189, 262, 9001, 10_107, 11_600, 11_602, 13_435, 13_436,
];

impl Connection {
    /// `configureFailPoint`.
    pub(super) fn configure_fail_point(&mut self, request: &Request<'_>) -> Reply {
        let command = request.command;
        if !self.server.settings.tests {
            return Err(no_such(request.name));
        }
        if text(command, "configureFailPoint") != Some("failCommand") {
            return Err(Failed::new(
                2,
                "the practice server has the fail point failCommand only",
            ));
        }
        let left = match command.get("mode") {
            Some(Datum::Text(mode)) if &**mode == "off" => 0,
            Some(Datum::Text(mode)) if &**mode == "alwaysOn" => u64::MAX,
            Some(Datum::Object(mode)) => mode
                .get("times")
                .and_then(Datum::as_i64)
                .and_then(|n| u64::try_from(n).ok())
                .ok_or_else(|| {
                    Failed::new(
                        2,
                        "the mode of a fail point is off, alwaysOn or { times: n }",
                    )
                })?,
            _ => return Err(Failed::new(2, "a fail point needs a mode")),
        };
        let data = object(command, "data").cloned().unwrap_or_default();
        let commands = list(&data, "failCommands").unwrap_or_default();
        let commands = commands
            .iter()
            .filter_map(|c| c.as_text().map(str::to_string))
            .collect();
        *lock(&self.server.fail_point) = (left > 0).then(|| FailPoint {
            left,
            commands,
            application: text(&data, "appName").map(str::to_string),
            data,
        });
        Ok(document! { "count": 0 })
    }

    /// What the fail point wants to happen to this command.
    pub(super) fn fails(&self, name: &str, command: &Document) -> Option<Fails> {
        let data = {
            let mut held = lock(&self.server.fail_point);
            let point = held.as_mut()?;
            let of_other = point.application.is_some() && point.application != self.application;
            if of_other || name == "configureFailPoint" || !point.commands.iter().any(|c| c == name)
            {
                return None;
            }
            let data = point.data.clone();
            point.left = point.left.saturating_sub(1);
            if point.left == 0 {
                *held = None;
            }
            data
        };
        if wanted(&data, "blockConnection") {
            let wait = data.get("blockTimeMS").and_then(Datum::as_i64).unwrap_or(0);
            std::thread::sleep(Duration::from_millis(wait.clamp(0, 60_000) as u64));
        }
        if wanted(&data, "closeConnection") {
            return Some(Fails::Cut);
        }
        let labels = data.get("errorLabels").cloned();
        if let Some(code) = data.get("errorCode").and_then(Datum::as_i64) {
            let code = i32::try_from(code).unwrap_or(0);
            let error = Failed::new(code, "Failing command via 'failCommand' failpoint");
            let mut reply = document! { "ok": 0.0, "errmsg": error.message.as_str(), "code": code, "codeName": error.name() };
            let retryable = command.get("txnNumber").is_some() && RETRYABLE.contains(&code);
            let within = command.get("autocommit").is_some();
            let usual = match (retryable, within && name != "commitTransaction") {
                (true, true) => Some("TransientTransactionError"),
                (true, false) => Some("RetryableWriteError"),
                _ => None,
            };
            if let Some(labels) = labels.or_else(|| usual.map(|label| vec![label].into())) {
                reply.set("errorLabels", labels);
            }
            return Some(Fails::Instead(reply));
        }
        let mut beside = Document::new();
        if let Some(concern) = data.get("writeConcernError") {
            beside.set("writeConcernError", concern.clone());
            let code = object(&data, "writeConcernError").and_then(|c| c.get("code")?.as_i64());
            let retryable = code
                .and_then(|c| i32::try_from(c).ok())
                .is_some_and(|c| RETRYABLE.contains(&c));
            let usual = (retryable && command.get("txnNumber").is_some())
                .then(|| vec!["RetryableWriteError"].into());
            if let Some(labels) = labels.or(usual) {
                beside.set("errorLabels", labels);
            }
        }
        (!beside.is_empty()).then_some(Fails::Beside(beside))
    }
}
