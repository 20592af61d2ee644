//! Whether the other side of a link has closed it, from what the system knows of its sockets: nothing is sent, and nothing
//! that belongs to the driver is read. Only Linux tells, in the tables of `/proc/self/net`.

/// A link over TCP, by the ports at its two ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Link {
    /// This side's.
    pub(crate) own: u16,
    /// The other side's.
    pub(crate) theirs: u16,
}

/// The state of a socket whose other side has closed it (`CLOSE_WAIT` in the kernel's table of states).
const CLOSED_THERE: u8 = 8;

/// Whether the other side has closed it; `None` where nobody knows of such a link.
pub(crate) fn is_closed(link: Link) -> Option<bool> {
    let tables = ["/proc/self/net/tcp", "/proc/self/net/tcp6"];
    let text = tables.map(|table| std::fs::read_to_string(table).unwrap_or_default());
    let state = text.iter().find_map(|table| state(table, link))?;
    Some(state == CLOSED_THERE)
}

/// The state of a link in one of these tables: a line has its number, both ends as `ADDRESS:PORT`, and the state, in
/// hexadecimal digits.
fn state(table: &str, link: Link) -> Option<u8> {
    let port = |end: &str| u16::from_str_radix(end.rsplit(':').next()?, 16).ok();
    table.lines().find_map(|line| {
        let mut words = line.split_whitespace().skip(1);
        let (own, theirs) = (port(words.next()?)?, port(words.next()?)?);
        let state = u8::from_str_radix(words.next()?, 16).ok()?;
        (link == Link { own, theirs }).then_some(state)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::{TcpListener, TcpStream};

    #[test]
    fn a_link_that_the_other_side_closes_is_seen() {
        let there = TcpListener::bind("127.0.0.1:0").expect("a port");
        let here = TcpStream::connect(there.local_addr().expect("a place")).expect("reached");
        let (other, _) = there.accept().expect("taken");
        let link = Link {
            own: here.local_addr().expect("a place").port(),
            theirs: there.local_addr().expect("a place").port(),
        };
        assert_eq!(is_closed(link), Some(false));
        drop(other);
        while is_closed(link) == Some(false) {
            std::thread::yield_now();
        }
        assert_eq!(is_closed(link), Some(true));
        drop(here);
        assert_eq!(
            state(
                "  sl  local_address\n   0: 0100007F:0CEA 0100007F:D431 01 0",
                Link {
                    own: 3306,
                    theirs: 54_321
                }
            ),
            Some(1)
        );
    }
}
