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
