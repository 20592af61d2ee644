//! Addresses with several hosts: they are asked in their order, and the first one that answers and fits is the session's
//! for its whole life. Which one that is, and what was passed over, stands in the bearings.

use crate::address::{Address, Wants};
use crate::engine::{Access, Connection};
use crate::trouble::{OpenError, Trouble};

/// Opens one host.
type OpenOne<'a> = dyn FnMut(&Address) -> Result<Box<dyn Connection>, OpenError> + 'a;

/// Opens the first of an address's hosts that answers and fits.
///
/// # Errors
/// If one refuses the user or has no such database; else, with what each of them said, if none answers and fits.
pub(crate) fn open(
    address: &Address,
    open_one: &mut OpenOne<'_>,
) -> Result<Box<dyn Connection>, OpenError> {
    if address.others.is_empty() && address.wants == Wants::Any {
        return open_one(address);
    }
    let mut passed: Vec<String> = Vec::new();
    let first = (address.host.clone(), address.port);
    for (host, port) in std::iter::once(&first).chain(&address.others) {
        let mut one = address.clone();
        (one.host, one.port) = (host.clone(), *port);
        one.others.clear();
        if !passed.is_empty() {
            let words = format!("Passed over in the address: {}.", passed.join("; "));
            one.notes.push(words);
        }
        match open_one(&one) {
            Ok(mut connection) => {
                let only_reads = matches!(connection.bearings().access, Access::ReadOnly(_));
                match (address.wants, only_reads) {
                    (Wants::Writes, true) => passed.push(format!("{} only reads", one.place())),
                    (Wants::Reads, false) => passed.push(format!("{} writes too", one.place())),
                    _ => return Ok(connection),
                }
            }
            // These are the same wherever one knocks.
            Err(error)
                if matches!(
                    error.trouble,
                    Trouble::Login | Trouble::NoDatabase | Trouble::Cancelled
                ) =>
            {
                return Err(error);
            }
            Err(error) => passed.push(format!(
                "{}: {}",
                one.place(),
                error.headline.trim_end_matches('.')
            )),
        }
    }
    Err(OpenError {
        trouble: Trouble::NoRoute,
        headline: match address.wants {
            Wants::Any => "None of the hosts in the address lets one in.".into(),
            Wants::Writes => "None of the hosts in the address takes writes.".into(),
            Wants::Reads => "None of the hosts in the address only reads.".into(),
        },
        checks: passed
            .into_iter()
            .map(|words| format!("{words}."))
            .collect(),
        said: None,
    })
}
