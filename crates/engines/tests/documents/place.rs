//! A practice server of one's own for each test, and what tests share.

use std::sync::Arc;

use idle_tide_core::document::extended::{Form, text_of};
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Column, Document, RowBatch};
use idle_tide_dock::server::{Listening, Server, Settings, Store, listen};
use idle_tide_engines::{
    Connection, EngineError, OpenOptions, Outcome, Silent, Sink, Source, open,
};

/// A server with a few landings in the database `haven`.
pub fn server(settings: Settings) -> Listening {
    let mut store = Store::default();
    let landings = idle_tide_dock::harbour::collection("landings", 300);
    store.fill("haven", "landings", landings).expect("filled");
    let server = Server::new(store, settings);
    listen(Arc::clone(&server), 0, None).expect("listens")
}

/// The address of a server.
pub fn url(listening: &Listening) -> String {
    format!("mongodb://127.0.0.1:{}/haven", listening.address.port())
}

/// Our own connection to an address.
pub fn connect(address: &str) -> Box<dyn Connection> {
    let source = Source::parse(address).expect("an address");
    open(
        &source,
        OpenOptions {
            write: true,
            ..OpenOptions::default()
        },
        &Silent,
    )
    .unwrap_or_else(|e| panic!("{e}"))
}

/// Keeps what a statement gives.
pub struct Keep(pub ResultSet);

impl Default for Keep {
    fn default() -> Self {
        Keep(ResultSet::new(Vec::new(), Budget::new(u64::MAX), u64::MAX))
    }
}

impl Sink for Keep {
    fn columns(&mut self, columns: Vec<Column>) -> std::io::Result<()> {
        self.0 = ResultSet::new(columns, Budget::new(u64::MAX), u64::MAX);
        Ok(())
    }
    fn more_columns(&mut self, columns: Vec<Column>) -> std::io::Result<()> {
        self.0.set_columns(columns);
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> std::io::Result<()> {
        self.0.append(batch)
    }
}

/// Runs a statement and gives its documents as relaxed JSON.
pub fn run(
    connection: &mut dyn Connection,
    statement: &str,
) -> Result<(Vec<String>, Outcome), EngineError> {
    run_as(connection, 1, statement)
}

/// The same under a ticket.
pub fn run_as(
    connection: &mut dyn Connection,
    ticket: u64,
    statement: &str,
) -> Result<(Vec<String>, Outcome), EngineError> {
    let mut keep = Keep::default();
    let outcome = connection.run(ticket, statement, &mut keep)?;
    let mut list = Vec::new();
    for at in 0..keep.0.batches() {
        let (_, batch) = keep.0.batch(at).expect("kept");
        for row in batch.rows() {
            let document: Document =
                idle_tide_core::document::bson::tree(row.document().expect("a document"));
            list.push(text_of(&document.into(), Form::Relaxed));
        }
    }
    Ok((list, outcome))
}
