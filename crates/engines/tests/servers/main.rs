//! Against real servers, which scripts/test-servers starts; without them these tests fail and say so.

#![allow(clippy::too_many_lines)]

mod faults;
mod mysql;
mod offered;
mod place;
mod rebuild;
mod shared;
mod tabular;
mod transact;
mod types;
mod ways;
mod work;
