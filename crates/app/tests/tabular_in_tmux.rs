//! A task over the Tabular Data Stream in the real program: a batch with a variable and several results, what it prints, an
//! error in its line, a change that is held, a batch that is stopped in a transaction, a session that refuses writes.

mod terminal;

use idle_tide_standin::{Options, Standin};
use terminal::{OWNER, arrive, load};

#[test]
fn batches_over_the_tabular_data_stream() {
    let standin = Standin::start(&Options::new("haven", OWNER)).expect("started");
    let address = format!("tds://haven@127.0.0.1:{}/harbour", standin.address.port());
    load(&address);
    let t = arrive(&address);
    t.until("who may do everything here");

    // One batch over several lines: its variable lives to its end, and both results are entries.
    t.types("declare @quay nvarchar(10) = N'N'");
    t.keys(&["M-Enter"]);
    t.types("select name from quays where code = @quay");
    t.keys(&["M-Enter"]);
    t.line("print 'a word from the batch'; select count(*) as berths_there from berths;");
    t.until("a word from the batch");
    t.until("berths_there");
    t.until("1  2  3");

    // What is not closed goes on.
    t.line("if 1 = 1 begin select 4 as inside;");
    t.line("end;");
    t.until("inside");

    // The word that is wrong is marked in its line, and the nearest one is offered.
    t.types("select name");
    t.keys(&["M-Enter"]);
    t.line("from quay;");
    t.until("There is no table or view quay");
    t.until("quays");
    t.keys(&["C-c"]);

    // A change is held, and taken back it was never made.
    t.line("update visits set crew = 99 where berth_id = 3;");
    t.until("held, and not kept yet");
    t.keys(&["T"]);
    t.until("no transaction");
    t.keys(&["Escape"]);

    // A stop ends the batch and leaves the transaction.
    t.line("begin transaction; update visits set crew = 99 where id = 5; waitfor delay '0:1:0';");
    t.until("Ctrl-C");
    t.keys(&["C-c"]);
    t.until("stopped");
    t.until("transaction open");
    t.line("rollback;");
    t.until("no transaction");
    t.line("select count(*) as changed from visits where crew = 99;");
    t.when("nothing changed", |screen| {
        let value = |line: &str| line.trim_start_matches(['▌', ' ']).trim() == "0";
        screen.contains("changed") && screen.lines().any(value)
    });

    // Of a batch that fails nobody claims that nothing happened.
    t.line("update visits set crew = crew where id = 5; select 1/0 as n;");
    t.until("Divide by zero");
    t.until("What else stands in it may have run");
    t.keys(&["C-c"]);

    t.line("/writes none");
    t.until("refuses");
    t.line("if 1 = 1 delete from dues where id = 1;");
    t.until("This session refuses writes");
}
