//! An independent driver against the stand-in: what it reads is what was written.

use futures_util::StreamExt as _;
use idle_tide_standin::{Options, Standin};
use tiberius::{AuthMethod, Client, Config, EncryptionLevel, QueryItem};
use tokio::net::TcpStream;
use tokio_util::compat::{Compat, TokioAsyncWriteCompatExt};

async fn client(standin: &Standin, password: &str) -> tiberius::Result<Client<Compat<TcpStream>>> {
    let mut config = Config::new();
    config.host("127.0.0.1");
    config.port(standin.address.port());
    config.database("harbour");
    config.authentication(AuthMethod::sql_server("haven", password));
    config.encryption(EncryptionLevel::NotSupported);
    let stream = TcpStream::connect(standin.address).await?;
    stream.set_nodelay(true)?;
    Client::connect(config, stream.compat_write()).await
}

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap()
}

const SETUP: &str = "
create table berths (id int identity primary key, name nvarchar(40) not null unique, depth decimal(9,2), fee money, since date, seen datetime2(3),
  open_now bit not null default 1, mark uniqueidentifier, photo varbinary(max), note varchar(max));
insert into berths (name, depth, fee, since, seen, mark, photo, note) values
  (N'North 港', 7.25, 1234.5678, '2019-03-01', '2026-03-01 12:30:00.125', '6F9619FF-8B86-D011-B42D-00C04FC964FF', 0x00ff10, 'plain'),
  (N'South', null, null, null, null, null, null, null);";

#[test]
fn it_logs_in_reads_writes_and_hears_errors_with_their_numbers() {
    let standin = Standin::start(&Options::new("haven", "the owner's secret")).unwrap();
    runtime().block_on(async {
        let refused = client(&standin, "another").await.unwrap_err();
        assert_eq!(refused.code(), Some(18_456), "{refused}");
        let mut client = client(&standin, "the owner's secret").await.unwrap();
        client.simple_query(SETUP).await.unwrap().into_results().await.unwrap();
        let rows = client
            .query("select top 5 id, name, depth, since, seen, open_now, mark, photo, note from dbo.berths where id <= @P1 order by id", &[&2_i32])
            .await
            .unwrap()
            .into_first_result()
            .await
            .unwrap();
        assert_eq!(rows.len(), 2);
        let row = &rows[0];
        assert_eq!(row.get::<i32, _>("id"), Some(1));
        assert_eq!(row.get::<&str, _>("name"), Some("North 港"));
        assert_eq!(row.get::<tiberius::numeric::Numeric, _>("depth").unwrap().to_string(), "7.25");
        assert_eq!(row.get::<bool, _>("open_now"), Some(true));
        assert_eq!(row.get::<&[u8], _>("photo"), Some(&[0, 255, 16][..]));
        assert_eq!(row.get::<tiberius::Uuid, _>("mark").unwrap().to_string().to_uppercase(), "6F9619FF-8B86-D011-B42D-00C04FC964FF");
        assert_eq!(rows[1].get::<&str, _>("note"), None);

        for (statement, number) in [
            ("select * from quay", 208),
            ("select draught from berths", 207),
            ("selec 1", 102),
            ("insert into berths (name) values ('South')", 2627),
            ("insert into berths (depth) values (1)", 515),
            ("select @missing", 137),
            ("exec no_such_thing", 2812),
        ] {
            let failed = match client.simple_query(statement).await {
                Ok(stream) => stream.into_results().await.unwrap_err(),
                Err(error) => error,
            };
            assert_eq!(failed.code(), Some(number), "{statement}: {failed}");
        }

        client.begin_transaction().await.unwrap();
        let changed = client.execute("update berths set fee = @P1", &[&12.5_f64]).await.unwrap();
        assert_eq!(changed.total(), 2);
        client.rollback_transaction().await.unwrap();
        let rows = client.query("select count(*) from berths where fee is null", &[]).await.unwrap().into_first_result().await.unwrap();
        assert_eq!(rows[0].get::<i32, _>(0), Some(1));

        let several = client.simple_query("declare @n int = 3; select @n as n; print 'heard'; while @n > 0 begin set @n = @n - 1; end; select @n as left_over");
        let results = several.await.unwrap().into_results().await.unwrap();
        assert_eq!(results.len(), 2);
        assert_eq!(results[1][0].get::<i32, _>("left_over"), Some(0));
    });
}

#[test]
fn it_stops_what_runs_and_goes_on() {
    let standin = Standin::start(&Options::new("haven", "the owner's secret")).unwrap();
    runtime().block_on(async {
        let mut client = client(&standin, "the owner's secret").await.unwrap();
        let mut stream = client
            .simple_query("select 1 as n; waitfor delay '0:0:30'; select 2 as n")
            .await
            .unwrap();
        while let Some(item) = stream.next().await {
            if matches!(item, Ok(QueryItem::Row(_))) {
                break;
            }
        }
        drop(stream);
        let before = std::time::Instant::now();
        client.cancel_query().await.unwrap();
        assert!(before.elapsed().as_secs() < 10);
        let rows = client
            .simple_query("select 7 as n")
            .await
            .unwrap()
            .into_first_result()
            .await
            .unwrap();
        assert_eq!(rows[0].get::<i32, _>(0), Some(7));
    });
}

/// A value as text, whatever its type.
fn shown(value: tiberius::ColumnData<'static>) -> String {
    use tiberius::ColumnData as Of;
    let or_null = |text: Option<String>| text.unwrap_or_else(|| "null".into());
    match value {
        Of::U8(n) => or_null(n.map(|n| n.to_string())),
        Of::I16(n) => or_null(n.map(|n| n.to_string())),
        Of::I32(n) => or_null(n.map(|n| n.to_string())),
        Of::I64(n) => or_null(n.map(|n| n.to_string())),
        Of::F32(n) => or_null(n.map(|n| n.to_string())),
        Of::F64(n) => or_null(n.map(|n| n.to_string())),
        Of::Bit(yes) => or_null(yes.map(|yes| u8::from(yes).to_string())),
        Of::String(text) => or_null(text.map(|text| text.into_owned())),
        Of::Guid(id) => or_null(id.map(|id| id.to_string().to_uppercase())),
        Of::Numeric(n) => or_null(n.map(|n| n.to_string())),
        other => format!("{other:?}"),
    }
}

/// What a batch comes to: its rows, values with a comma and rows with a bar between them, or the number of its error.
async fn comes_to(client: &mut Client<Compat<TcpStream>>, batch: &str) -> String {
    let results = match client.simple_query(batch).await {
        Ok(stream) => stream.into_results().await,
        Err(error) => Err(error),
    };
    match results {
        Ok(results) => {
            let rows = results.into_iter().flatten();
            let row = |row: tiberius::Row| row.into_iter().map(shown).collect::<Vec<_>>().join(",");
            rows.map(row).collect::<Vec<_>>().join("|")
        }
        Err(error) => format!("error {}", error.code().unwrap_or_default()),
    }
}

/// What the language means, by its public reference.
#[test]
fn batches_come_to_what_the_reference_says() {
    let standin = Standin::start(&Options::new("haven", "the owner's secret")).unwrap();
    runtime().block_on(async {
        let mut client = client(&standin, "the owner's secret").await.unwrap();
        for (batch, wanted) in [
            // Numbers.
            ("select 7 / 2, -7 / 2, 7 % 4, 2 + 3 * 4", "3,-3,3,14"),
            ("select 1 / 0", "error 8134"),
            ("select cast(7 as float) / 2", "3.5"),
            ("select cast('12' as int) + 1", "13"),
            ("select cast('a tide' as int)", "error 245"),
            ("select cast(300 as tinyint)", "error 8115"),
            ("select cast('1.005' as decimal(9,2))", "1.01"),
            ("select abs(-3), round(2.567, 1)", "3,2.6"),
            // Texts.
            ("select 'a' + 'b', len('ab  '), upper('ab'), lower('AB')", "ab,2,AB,ab"),
            ("select 'a' + null, isnull(null, 'x'), coalesce(null, null, 'y')", "null,x,y"),
            ("select left('tide', 2), right('tide', 2), substring('tide', 2, 2), reverse('ab')", "ti,de,id,ba"),
            ("select charindex('d', 'tide'), charindex('x', 'tide'), replace('a-b', '-', '+')", "3,0,a+b"),
            ("select replicate('ab', 2), space(2) + '.', quotename('a]b'), quotename('x', '''')", "abab,  .,[a]]b],'x'"),
            ("select ltrim('  a'), rtrim('a  '), nullif(1, 1)", "a,a,null"),
            // Moments.
            ("select year('2031-03-01'), month('2031-03-01'), day('2031-03-01')", "2031,3,1"),
            ("select datediff(day, '2031-02-27', '2031-03-01'), datediff(month, '2031-01-31', '2031-02-01')", "2,1"),
            ("select datename(weekday, '2031-03-01'), datepart(hour, '2031-03-01 12:30')", "Saturday,12"),
            ("select datediff(day, '2031-02-27', dateadd(month, 1, '2031-01-31'))", "1"),
            ("select cast('2031-02-30' as date)", "error 241"),
            // Variables and the flow of a batch.
            ("declare @n int = 3; set @n = @n + 1; select @n", "4"),
            ("declare @n int; select @n = count(*) from (values (1), (2)) as v(n); select @n", "2"),
            ("declare @n int = 0; while @n < 9 begin set @n = @n + 1; if @n = 2 continue; if @n = 4 break; end select @n", "4"),
            ("if 1 = 2 select 'no' else select 'yes'", "yes"),
            ("if exists (select 1) begin select 1; select 2 end", "1|2"),
            ("select @unknown", "error 137"),
            // Tables.
            ("create table ropes (id int identity primary key, berth nvarchar(9) not null, metres decimal(9,2) check (metres > 0))", ""),
            ("insert into ropes (berth, metres) output inserted.id values ('N', 12.5), ('S', 3)", "1|2"),
            ("select scope_identity()", "2"),
            ("insert into ropes (berth, metres) values ('E', -1)", "error 547"),
            ("insert into ropes (berth, metres) values (null, 1)", "error 515"),
            ("insert ropes (berth) values ('W'); select @@rowcount", "1"),
            ("select top 2 berth from ropes order by id desc", "W|S"),
            ("select berth from ropes order by id offset 1 rows fetch next 1 rows only", "S"),
            ("select count(*), sum(metres), max(berth) from ropes where metres is not null", "2,15.50,S"),
            ("select berth, row_number() over (order by id desc) from ropes where id < 3 order by id", "N,2|S,1"),
            ("update ropes set metres = 4 output inserted.metres where id = 2", "4.00"),
            // The old values are not there to be given.
            ("update ropes set metres = 4 output deleted.metres where id = 2", "error 40000"),
            ("select [berth] from [dbo].[ropes] where \"id\" = 1", "N"),
            ("with long as (select * from ropes where metres > 5) select berth from long", "N"),
            ("delete ropes where berth = 'W'; select @@rowcount", "1"),
            ("select name from sys.tables", "ropes"),
            ("create table ropes (id int)", "error 2714"),
            ("select r.berth from ropes r join ropes s on s.id = id", "error 209"),
            ("select * into longer from ropes where metres > 5; select count(*) from longer", "1"),
            ("truncate table longer; select count(*) from longer", "0"),
            ("drop table longer; select * from longer", "error 208"),
            ("drop table longer", "error 3701"),
            ("drop table if exists longer", ""),
            // Transactions.
            ("begin tran; delete from ropes; rollback; select count(*), @@trancount from ropes", "2,0"),
            ("begin tran; begin tran; commit; select @@trancount; commit; select @@trancount", "1|0"),
            ("commit", "error 3902"),
            ("rollback", "error 3903"),
            // Procedures.
            ("create procedure longer_than @metres decimal(9,2), @most int = 5 as select top (@most) berth from ropes where metres > @metres order by id", ""),
            ("exec longer_than 1", "N|S"),
            ("execute longer_than @metres = 1, @most = 1", "N"),
            ("exec longer_than", "error 201"),
            ("exec no_such_thing", "error 2812"),
            ("exec sp_executesql N'select @a + @b', N'@a int, @b int', @a = 1, @b = 2", "3"),
            ("drop procedure longer_than", ""),
            // Faults and messages.
            ("raiserror('too late', 16, 1)", "error 50000"),
            ("throw 50007, 'too late', 1", "error 50007"),
            ("print 'heard'; select 1", "1"),
            ("select no_such(1)", "error 195"),
            ("selec 1", "error 102"),
        ] {
            assert_eq!(comes_to(&mut client, batch).await, wanted, "{batch}");
        }
    });
}
