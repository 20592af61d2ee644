//! The families of databases: what opens a server of each, and how one of this machine is known before anybody logs
//! in. A family is a folder of this crate and a row here; one with addresses of the usual form also a row of
//! [`SERVED`](crate::address::SERVED), one with plans in SQL a row of those of `plan`.

use std::sync::Arc;

use idle_tide_lang::dialect::Family;

use crate::address::Address;
use crate::engine::Connection;
pub use crate::nearby::Hello;
use crate::reach::Reach;
use crate::trouble::{Ask, OpenError};
use crate::{documents, mariadb, postgres, tabular};

type Open = fn(&Address, Arc<Reach>, &dyn Ask) -> Result<Box<dyn Connection>, OpenError>;

/// What this program knows of a family.
pub struct Known {
    /// The family.
    pub family: Family,
    /// The scheme of its addresses.
    pub scheme: &'static str,
    /// Ports where it usually listens; others near them are for second servers.
    pub ports: &'static [u16],
    /// Whether a server of it listens at a port of this machine, and what it says.
    pub hello: fn(u16) -> Option<Hello>,
    /// Opens one by its address; `None` where the addresses are of another form.
    pub(crate) open: Option<Open>,
}

/// All families that have servers.
pub static FAMILIES: &[Known] = &[
    Known {
        family: Family::Postgres,
        scheme: "postgres",
        ports: &[5432],
        hello: postgres::hello::hello,
        open: Some(|address, reach, ask| {
            Ok(Box::new(postgres::Postgres::open(address, reach, ask)?))
        }),
    },
    Known {
        family: Family::Mariadb,
        scheme: "mariadb",
        ports: &[3306],
        hello: mariadb::hello::hello,
        open: Some(|address, reach, ask| {
            Ok(Box::new(mariadb::Mariadb::open(address, reach, ask)?))
        }),
    },
    Known {
        family: Family::Tabular,
        scheme: "tds",
        // The second is that of the practice server.
        ports: &[1433, 21_433],
        hello: tabular::hello::hello,
        open: Some(|address, reach, ask| {
            Ok(Box::new(tabular::Tabular::open(address, reach, ask)?))
        }),
    },
    Known {
        family: Family::Documents,
        scheme: "mongodb",
        // The second is that of the practice server.
        ports: &[27_017, 27_117],
        hello: documents::hello::hello,
        open: None,
    },
];

/// What is known of a family, if it has servers.
pub fn of(family: Family) -> Option<&'static Known> {
    FAMILIES.iter().find(|known| known.family == family)
}
