//! The other side: the sources as another driver sees them, never through the program.

use std::path::{Path, PathBuf};

use idle_tide_dock::server::{Listening, Server, Settings, Store, listen};
use idle_tide_standin::{Options, Standin};
use mongodb::bson::{Bson, Document, doc};
use mysql_async::prelude::Queryable;
use tokio::runtime::Runtime;
use tokio_util::compat::TokioAsyncWriteCompatExt;

use crate::field::OWNER;

/// A source and another driver on it.
pub trait Peer {
    /// Runs what is to be there before.
    fn make(&mut self, statements: &[&str]) -> Result<(), String>;
    /// Everything that a write could change, a line each.
    fn all(&mut self) -> Result<Vec<String>, String>;
    /// The rows of one question, a line each.
    fn ask(&mut self, question: &str) -> Result<Vec<String>, String>;
}

/// A stand-in for servers over the Tabular Data Stream, whose owner comes in as on the others.
pub fn standin() -> Standin {
    Standin::start(&Options::new("haven", OWNER)).expect("a stand-in")
}

/// A practice server of documents with nothing in it.
pub fn document_server() -> Listening {
    let server = Server::new(Store::default(), Settings::default());
    listen(server, 0, None).expect("listens")
}

fn runtime() -> Runtime {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .expect("a runtime")
}

/// The answers to all these questions.
fn all_of(peer: &mut dyn Peer, questions: &[&str]) -> Result<Vec<String>, String> {
    let mut lines = Vec::new();
    for question in questions {
        let rows = peer.ask(question);
        let rows = rows.map_err(|error| format!("{question}: {error}"))?;
        lines.extend(rows.into_iter().map(|row| format!("{question}: {row}")));
    }
    Ok(lines)
}

/// The names and sizes of what lies in a folder.
pub fn lying_in(folder: &Path) -> Vec<String> {
    let mut lines: Vec<String> = std::fs::read_dir(folder)
        .into_iter()
        .flatten()
        .flatten()
        .map(|entry| {
            let content = std::fs::read(entry.path()).unwrap_or_default();
            let sum = content.iter().fold(0xcbf2_9ce4_8422_2325_u64, |sum, byte| {
                (sum ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3)
            });
            format!("{:?} {} {sum:x}", entry.file_name(), content.len())
        })
        .collect();
    lines.sort();
    lines
}

/// PostgreSQL through tokio-postgres.
pub struct Postgres {
    runtime: Runtime,
    client: tokio_postgres::Client,
}

impl Postgres {
    /// A new database of this name.
    pub fn open(port: &str, database: &str) -> Result<Self, String> {
        let runtime = runtime();
        let connect = |database: &str| {
            let config = format!(
                "host=127.0.0.1 port={port} user=haven password='the owner\\'s secret' dbname={database} application_name=witness"
            );
            runtime.block_on(async {
                let (client, connection) = tokio_postgres::connect(&config, tokio_postgres::NoTls)
                    .await
                    .map_err(|error| error.to_string())?;
                tokio::spawn(connection);
                Ok::<_, String>(client)
            })
        };
        let admin = connect("postgres")?;
        for sql in [
            format!("drop database if exists {database} with (force)"),
            format!("create database {database}"),
        ] {
            runtime
                .block_on(admin.batch_execute(&sql))
                .map_err(|error| error.to_string())?;
        }
        let client = connect(database)?;
        Ok(Self { runtime, client })
    }
}

impl Peer for Postgres {
    fn make(&mut self, statements: &[&str]) -> Result<(), String> {
        for sql in statements {
            let done = self.runtime.block_on(self.client.batch_execute(sql));
            done.map_err(|error| format!("{sql}: {error:?}"))?;
        }
        Ok(())
    }
    fn ask(&mut self, question: &str) -> Result<Vec<String>, String> {
        let messages = self.runtime.block_on(self.client.simple_query(question));
        let messages = messages.map_err(|error| format!("{error:?}"))?;
        let rows = messages.iter().filter_map(|message| match message {
            tokio_postgres::SimpleQueryMessage::Row(row) => {
                let cells = (0..row.len()).map(|at| row.get(at).unwrap_or("null"));
                Some(cells.collect::<Vec<_>>().join(" "))
            }
            _ => None,
        });
        Ok(rows.collect())
    }
    fn all(&mut self) -> Result<Vec<String>, String> {
        all_of(
            self,
            &[
                "select * from t order by 1",
                "select * from other order by 1",
                "select * from kept_rows order by 1",
                "select last_value, is_called from s",
                "select oid, relname, relkind, relnatts, relfilenode, relacl, reloptions, relowner, relrowsecurity, relpersistence from pg_class where relname not like 'pg\\_toast%' and relnamespace not in (select oid from pg_namespace where nspname like 'pg\\_t%') order by 1",
                "select attrelid, attname, attstattarget, attacl, attoptions, attnotnull from pg_attribute where attrelid = 't'::regclass order by 1, 2",
                "select oid, proname, prosrc, proconfig, proacl, proowner from pg_proc where pronamespace = 'public'::regnamespace order by 1",
                "select oid, * from pg_authid order by 1",
                "select * from pg_auth_members order by 1",
                "select * from pg_db_role_setting order by 1",
                "select name, setting, sourcefile from pg_settings where context <> 'internal' and source in ('configuration file', 'database', 'user') order by 1",
                "select name, setting, sourcefile from pg_file_settings order by 1, 3",
                "select pg_conf_load_time()",
                "select oid, lomowner, lomacl from pg_largeobject_metadata order by 1",
                "select loid, pageno, data from pg_largeobject order by 1, 2",
                "select oid, datname, datacl, datconnlimit, datallowconn from pg_database order by 1",
                "select oid, nspname, nspacl from pg_namespace where nspname not like 'pg\\_t%' order by 1",
                "select oid, spcname from pg_tablespace order by 1",
                "select oid, extname from pg_extension order by 1",
                "select oid, evtname, evtenabled from pg_event_trigger order by 1",
                "select oid, tgname, tgenabled from pg_trigger order by 1",
                "select oid, polname from pg_policy order by 1",
                "select oid, conname, convalidated from pg_constraint order by 1",
                "select oid, rulename, ev_enabled from pg_rewrite where oid > 16000 order by 1",
                "select oid, typname from pg_type where typnamespace = 'public'::regnamespace order by 1",
                "select oid from pg_cast where oid > 16000 order by 1",
                "select oid, oprname from pg_operator where oid > 16000 order by 1",
                "select oid from pg_statistic_ext order by 1",
                "select starelid from pg_statistic where starelid > 16000 order by 1",
                "select oid, srvname from pg_foreign_server order by 1",
                "select oid, fdwname from pg_foreign_data_wrapper order by 1",
                "select oid from pg_user_mapping order by 1",
                "select oid, pubname from pg_publication order by 1",
                "select oid, subname from pg_subscription order by 1",
                "select oid, collname from pg_collation where oid > 16000 order by 1",
                "select oid, lanname from pg_language order by 1",
                "select oid from pg_default_acl order by 1",
                "select gid from pg_prepared_xacts order by 1",
                "select slot_name from pg_replication_slots order by 1",
                "select objoid, description from pg_description where objoid > 16000 order by 1",
                "select classoid, label from pg_seclabel order by 1",
                "select pg_is_in_backup from (select null as pg_is_in_backup) x",
                "select count(*) from pg_stat_activity where application_name = 'witness'",
                "select datname, stats_reset from pg_stat_database where datname = current_database()",
            ],
        )
    }
}

/// MariaDB and MySQL through mysql_async.
pub struct Mysql {
    runtime: Runtime,
    link: mysql_async::Conn,
    is_mysql: bool,
}

impl Mysql {
    /// A new database of this name.
    pub fn open(port: &str, database: &str, is_mysql: bool) -> Result<Self, String> {
        let runtime = runtime();
        let options = mysql_async::OptsBuilder::default()
            .ip_or_hostname("127.0.0.1")
            .tcp_port(port.parse().map_err(|_| "a port")?)
            .user(Some("haven"))
            .pass(Some(OWNER))
            .prefer_socket(false)
            .ssl_opts(mysql_async::SslOpts::default().with_danger_accept_invalid_certs(true));
        let link = runtime
            .block_on(mysql_async::Conn::new(options))
            .map_err(|error| error.to_string())?;
        let mut this = Self {
            runtime,
            link,
            is_mysql,
        };
        let drop = format!("drop database if exists {database}");
        let create = format!("create database {database}");
        let enter = format!("use {database}");
        this.make(&[&drop, &create, &enter])?;
        Ok(this)
    }
}

impl Peer for Mysql {
    fn make(&mut self, statements: &[&str]) -> Result<(), String> {
        for sql in statements {
            let done = self.runtime.block_on(self.link.query_drop(*sql));
            done.map_err(|error| format!("{sql}: {error}"))?;
        }
        Ok(())
    }
    fn ask(&mut self, question: &str) -> Result<Vec<String>, String> {
        let rows: Vec<mysql_async::Row> = self
            .runtime
            .block_on(self.link.query(question))
            .map_err(|error| error.to_string())?;
        let rows = rows.iter().map(|row| {
            let cells = (0..row.len()).map(|at| {
                row.as_ref(at)
                    .map_or("?".into(), |value| value.as_sql(false))
            });
            cells.collect::<Vec<_>>().join(" ")
        });
        Ok(rows.collect())
    }
    fn all(&mut self) -> Result<Vec<String>, String> {
        let mut questions = vec![
            "select * from t order by 1",
            "select * from other order by 1",
            "select table_schema, table_name, table_type, engine, create_time, auto_increment, table_comment, row_format from information_schema.tables where table_schema not in ('information_schema', 'performance_schema', 'sys', 'mysql') order by 1, 2",
            "select table_schema, table_name, column_name, column_type from information_schema.columns where table_schema not in ('information_schema', 'performance_schema', 'sys', 'mysql') order by 1, 2, 3",
            "select routine_schema, routine_name, routine_definition, last_altered from information_schema.routines where routine_schema <> 'sys' order by 1, 2",
            "select trigger_schema, trigger_name, action_statement from information_schema.triggers where trigger_schema <> 'sys' order by 1, 2",
            "select event_schema, event_name, status from information_schema.events order by 1, 2",
            "select index_name, table_name, column_name from information_schema.statistics where table_schema = database() order by 1, 2, 3",
            "select user, host, db from mysql.db order by 1, 2, 3",
            "select user, host, db, table_name from mysql.tables_priv order by 1, 2, 3, 4",
            "select server_name from mysql.servers",
            "select plugin_name, plugin_status from information_schema.plugins order by 1",
            "select schema_name, default_collation_name from information_schema.schemata order by 1",
            "show global variables",
            "select * from mysql.func",
            "select count(*) from mysql.general_log",
        ];
        if self.is_mysql {
            questions.extend([
                "select user, host, authentication_string, account_locked from mysql.user order by 1, 2",
                "select * from mysql.role_edges order by 1, 2, 3",
                "select * from performance_schema.persisted_variables order by 1",
                "select component_urn from mysql.component order by 1",
                "select count(*) from mysql.innodb_table_stats where database_name = 'hidden'",
            ]);
        } else {
            questions.extend(
                [
                    "select * from mysql.global_priv order by 1, 2",
                    "select * from mysql.roles_mapping order by 1, 2",
                    "select next_not_cached_value from s",
                    "select db_name, table_name from mysql.table_stats order by 1, 2",
                    "select * from mysql.default_roles order by 1, 2",
                ]
                .iter()
                .filter(|question| !question.contains("default_roles")),
            );
        }
        all_of(self, &questions)
    }
}

/// A stand-in for servers over the Tabular Data Stream, through tiberius.
pub struct Tabular {
    runtime: Runtime,
    link: tiberius::Client<tokio_util::compat::Compat<tokio::net::TcpStream>>,
}

impl Tabular {
    /// The database that the stand-in has.
    pub fn open(port: u16, database: &str) -> Result<Self, String> {
        let runtime = runtime();
        let mut config = tiberius::Config::new();
        config.host("127.0.0.1");
        config.port(port);
        config.database(database);
        config.authentication(tiberius::AuthMethod::sql_server("haven", OWNER));
        config.encryption(tiberius::EncryptionLevel::NotSupported);
        let link = runtime.block_on(async {
            let stream = tokio::net::TcpStream::connect(config.get_addr());
            let stream = stream.await.map_err(|error| error.to_string())?;
            let client = tiberius::Client::connect(config, stream.compat_write());
            client.await.map_err(|error| error.to_string())
        })?;
        Ok(Self { runtime, link })
    }
}

impl Peer for Tabular {
    fn make(&mut self, statements: &[&str]) -> Result<(), String> {
        for sql in statements {
            self.ask(sql).map_err(|error| format!("{sql}: {error}"))?;
        }
        Ok(())
    }
    fn ask(&mut self, question: &str) -> Result<Vec<String>, String> {
        let rows = self.runtime.block_on(async {
            let stream = self.link.simple_query(question).await?;
            stream.into_first_result().await
        });
        let rows = rows.map_err(|error| error.to_string())?;
        Ok(rows
            .iter()
            .map(|row| {
                row.cells()
                    .map(|(_, cell)| format!("{cell:?}"))
                    .collect::<Vec<_>>()
                    .join(" ")
            })
            .collect())
    }
    fn all(&mut self) -> Result<Vec<String>, String> {
        all_of(
            self,
            &[
                "select * from t order by a",
                "select * from other order by a",
                "select name, type from sys.objects order by name",
                "select name from sys.schemas order by name",
                "select name from sys.databases order by name",
                "select name from sys.database_principals order by name",
                "select name, current_value from sys.sequences order by name",
            ],
        )
    }
}

/// A database file through rusqlite, with all that lies beside it.
pub struct File {
    path: PathBuf,
}

impl File {
    /// The file at this path.
    pub fn at(path: &Path) -> Self {
        Self { path: path.into() }
    }
}

impl Peer for File {
    fn make(&mut self, statements: &[&str]) -> Result<(), String> {
        let link = rusqlite::Connection::open(&self.path).map_err(|error| error.to_string())?;
        for sql in statements {
            link.execute_batch(sql)
                .map_err(|error| format!("{sql}: {error}"))?;
        }
        Ok(())
    }
    fn ask(&mut self, question: &str) -> Result<Vec<String>, String> {
        let link = rusqlite::Connection::open(&self.path).map_err(|error| error.to_string())?;
        let mut statement = link.prepare(question).map_err(|error| error.to_string())?;
        let width = statement.column_count();
        let rows = statement.query_map([], |row| {
            let cells = (0..width).map(|at| Ok(format!("{:?}", row.get_ref(at)?)));
            Ok(cells.collect::<rusqlite::Result<Vec<_>>>()?.join(" "))
        });
        let rows = rows.map_err(|error| error.to_string())?;
        rows.collect::<Result<_, _>>()
            .map_err(|error| error.to_string())
    }
    /// Every byte of the file, and what lies in its folder.
    fn all(&mut self) -> Result<Vec<String>, String> {
        Ok(lying_in(self.path.parent().ok_or("no folder")?))
    }
}

/// A document server through the driver that its users have.
pub struct Documents {
    runtime: Runtime,
    client: mongodb::Client,
    database: String,
}

impl Documents {
    /// A database of the server at this port.
    pub fn open(port: u16, database: &str) -> Result<Self, String> {
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .enable_all()
            .build()
            .map_err(|error| error.to_string())?;
        let url = format!(
            "mongodb://127.0.0.1:{port}/?directConnection=true&serverSelectionTimeoutMS=500"
        );
        let client = runtime
            .block_on(mongodb::Client::with_uri_str(url))
            .map_err(|error| error.to_string())?;
        let database = database.to_string();
        Ok(Self {
            runtime,
            client,
            database,
        })
    }

    /// Puts in one document with this number, and waits until the server says that it has it.
    pub fn insert(&mut self, collection: &str, number: i64) -> Result<(), String> {
        let database = self.database.clone();
        let insert = doc! { "insert": collection, "documents": [{ "_id": number }] };
        self.command(&database, insert).map(|_| ())
    }

    /// Drops the database.
    pub fn drop(&mut self) -> Result<(), String> {
        let database = self.database.clone();
        self.command(&database, doc! { "dropDatabase": 1 })?;
        self.command("admin", doc! { "listDatabases": 1 })
            .map(|_| ())
    }

    fn command(&mut self, database: &str, command: Document) -> Result<Document, String> {
        let database = self.client.database(database);
        let done = async { database.run_command(command).await };
        self.runtime
            .block_on(done)
            .map_err(|error| error.to_string())
    }

    fn first_batch(&mut self, database: &str, command: Document) -> Result<Vec<Document>, String> {
        let answer = self.command(database, command)?;
        let batch = answer
            .get_document("cursor")
            .and_then(|cursor| cursor.get_array("firstBatch"))
            .map_err(|error| error.to_string())?;
        Ok(batch
            .iter()
            .filter_map(Bson::as_document)
            .cloned()
            .collect())
    }
}

impl Peer for Documents {
    /// Fills the collections of these names with three documents each.
    fn make(&mut self, statements: &[&str]) -> Result<(), String> {
        let database = self.database.clone();
        for name in statements {
            let documents = [
                doc! { "_id": 1, "a": 1, "l": [1, 2] },
                doc! { "_id": 2, "a": 2 },
                doc! { "_id": 3, "a": 3 },
            ];
            let insert = doc! { "insert": *name, "documents": documents.to_vec() };
            self.command(&database, insert)?;
        }
        Ok(())
    }
    /// The documents of a collection.
    fn ask(&mut self, question: &str) -> Result<Vec<String>, String> {
        let database = self.database.clone();
        let find = doc! { "find": question, "sort": { "_id": 1 }, "batchSize": 1_000_000 };
        let found = self.first_batch(&database, find)?;
        Ok(found.iter().map(Document::to_string).collect())
    }
    fn all(&mut self) -> Result<Vec<String>, String> {
        let mut lines = Vec::new();
        let databases = self.command("admin", doc! { "listDatabases": 1 })?;
        let databases = databases
            .get_array("databases")
            .map_err(|e| e.to_string())?;
        for database in databases.clone() {
            let name = database.as_document().and_then(|d| d.get_str("name").ok());
            let name = name.unwrap_or_default().to_string();
            let list = doc! { "listCollections": 1, "cursor": { "batchSize": 10_000 } };
            for collection in self.first_batch(&name, list)? {
                lines.push(format!("{name}: {collection}"));
                let collection = collection.get_str("name").unwrap_or_default();
                let indexes = doc! { "listIndexes": collection };
                for index in self.first_batch(&name, indexes).unwrap_or_default() {
                    lines.push(format!("{name}.{collection}: {index}"));
                }
                let find = doc! { "find": collection, "batchSize": 1_000_000 };
                for document in self.first_batch(&name, find).unwrap_or_default() {
                    lines.push(format!("{name}.{collection}: {document}"));
                }
            }
            if let Ok(users) = self.command(&name, doc! { "usersInfo": 1 }) {
                lines.push(format!("{name}: {:?}", users.get("users")));
            }
        }
        Ok(lines)
    }
}
