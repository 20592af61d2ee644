//! Links to servers of this machine that are only looked at.

use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::time::Duration;

/// How long a server of this machine may take to say something.
pub(crate) const PATIENCE: Duration = Duration::from_millis(400);

/// What a server says of itself before anybody logs in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hello {
    /// What it is: the family's name, or of which kind of it.
    pub name: &'static str,
    /// Its version, where it says so.
    pub says: String,
}

/// A link to a port of this machine, which has to say something soon.
pub(crate) fn link(port: u16) -> Option<TcpStream> {
    let place = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
    let stream = TcpStream::connect_timeout(&place, PATIENCE).ok()?;
    stream.set_read_timeout(Some(PATIENCE)).ok()?;
    Some(stream)
}
