//! Against real servers, which scripts/test-servers starts; without them these tests fail and say so.

mod place;
mod types;
mod work;
