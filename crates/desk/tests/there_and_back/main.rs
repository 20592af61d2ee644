//! What is written is read again as it was: the program's own writers against its readers and a database.

mod across;
mod files;
mod inserts;
