//! What a definition says makes the same again: the whole schema of the harbour, and one made to be nasty, from
//! one database into an empty one of the same family, and the catalogs compared in every detail.

use idle_tide_core::catalog::{Catalog, Object};
use idle_tide_engines::{Connection, load_harbour};
use idle_tide_lang::split::pieces;

use crate::place::{connect, own, run, servers};

/// Things of PostgreSQL that a definition can get wrong: names, order, quoting, what belongs to what.
const NASTY_POSTGRES: &[&str] = &[
    "create schema \"Odd Schema\"",
    "comment on schema \"Odd Schema\" is 'with a ''quote'''",
    "create type rig as enum ('sloop', 'ket''ch', 'Yawl')",
    "create type \"Odd Schema\".\"Point.3\" as (x numeric(5,2), \"select\" text)",
    "create domain depth as numeric(4,2) default 1 not null constraint positive check (value > 0)",
    "create type span as range (subtype = numeric)",
    "create sequence \"Odd Schema\".\"tally ☂\" as integer increment by -5 minvalue -100 maxvalue 100 start with 7 cycle",
    "create function fee(draught numeric, days int default 1) returns numeric language sql immutable strict as $$ select draught * days; -- ';'\n$$",
    "comment on function fee is 'what ''it'' costs'",
    "create table \"Select\" (\"From\" integer generated always as identity (start with 100 increment by 10) primary key, \"a.b\" text collate \"C\" not null default 'it''s; \"x\"', \"emoji ⛵\" rig default 'ket''ch', rigs rig[], d depth, at timestamptz(3) default now(), doubled numeric generated always as (fee(2, 3)) stored, w bit varying(7), constraint \"odd; check\" check (\"a.b\" <> 'x''y' or d is null), constraint \"both ways\" unique (\"a.b\", at))",
    "create table loops (id serial primary key, parent integer references loops on delete set null on update cascade, other integer, p \"Odd Schema\".\"Point.3\")",
    "create table circle (id bigint primary key, loop_id integer not null references loops (id) deferrable initially deferred)",
    "alter table loops add constraint \"to circle\" foreign key (other) references circle (id) on delete cascade",
    "create table twice (a integer references circle (id), b integer references circle (id), excl int4range, exclude using gist (excl with &&))",
    "create unlogged table fast (x integer) with (fillfactor=70)",
    "create table \"Odd Schema\".parent (id integer, at date not null, note text, primary key (id, at)) partition by range (at)",
    "create index on \"Odd Schema\".parent (note)",
    "create table \"Odd Schema\".early partition of \"Odd Schema\".parent for values from (minvalue) to ('2031-01-01')",
    "create table \"Odd Schema\".late partition of \"Odd Schema\".parent for values from ('2031-01-01') to (maxvalue) partition by hash (id)",
    "create table \"Odd Schema\".late_rest partition of \"Odd Schema\".late for values with (modulus 1, remainder 0)",
    "create table base (x integer constraint \"must have\" not null, y text)",
    "create table derived (z integer) inherits (base)",
    "create unique index \"some rows\" on \"Select\" (lower(\"a.b\"), at desc) include (d) where d > 1 and \"a.b\" <> 'q'",
    "create index hashed on loops using hash (other)",
    "comment on index hashed is 'by hash'",
    // The later by name is needed by the earlier, and each by a function.
    "create view z_first as select \"From\" as n, \"a.b\" from \"Select\"",
    "create view a_second with (security_barrier=true) as select n + 1 as more, fee(n) as f from z_first",
    "create function rows_of() returns setof a_second language sql stable as 'select * from public.a_second'",
    "create materialized view kept as select * from rows_of()",
    "create unique index kept_key on kept (more)",
    "comment on view a_second is 'second; first'",
    "comment on materialized view kept is 'kept'",
    "comment on column \"Select\".\"a.b\" is 'it''s\nin two lines'",
    "comment on column a_second.f is 'a fee'",
    "comment on constraint \"odd; check\" on \"Select\" is 'checked'",
    "create function touched() returns trigger language plpgsql as $f$ begin new.at := now(); return new; end; $f$",
    "create trigger \"before ; all\" before insert or update of \"a.b\" on \"Select\" for each row when (new.d is not null) execute function touched()",
    "create trigger sleeping after delete on loops execute function touched()",
    "alter table loops disable trigger sleeping",
    "comment on trigger sleeping on loops is 'sleeps'",
    "create procedure sweep(inout n integer) language plpgsql as 'begin n := n + 1; end'",
    "create aggregate total_fee(numeric) (sfunc = numeric_add, stype = numeric, initcond = '0')",
    "alter table circle enable row level security",
    "create policy own_rows on circle for select to public using (id > 0)",
    "create rule no_update as on update to base do instead nothing",
    "create statistics spread on x, y from base",
    "create extension if not exists postgres_fdw",
    "create server \"South Quay\" version '2' foreign data wrapper postgres_fdw options (host '127.0.0.1', dbname 'it''s')",
    "create user mapping for public server \"South Quay\" options (user 'mate', password 'low water')",
    "create foreign table far (id integer options (column_name 'ID'), note text) server \"South Quay\" options (table_name 'there')",
    "create collation \"Odd Schema\".plain (locale = 'C')",
    "create table sorted (name text collate \"Odd Schema\".plain)",
    "create function rig_of(integer) returns rig language sql immutable as $$ select 'sloop'::rig $$",
    "create cast (integer as rig) with function rig_of(integer) as assignment",
    "create function less_deep(depth, depth) returns boolean language sql immutable as 'select $1::numeric < $2::numeric'",
    "create operator <<< (procedure = less_deep, leftarg = depth, rightarg = depth, commutator = operator(>>>), restrict = scalarltsel)",
    "create text search dictionary tides (template = simple, stopwords = 'english')",
    "create text search configuration harbour (parser = default)",
    "alter text search configuration harbour add mapping for asciiword, word with tides, simple",
    "create publication landings_out for table base, loops with (publish = 'insert, delete')",
];

/// The same for MariaDB and MySQL.
const NASTY_MARIADB: &[&str] = &[
    "create table `Select` (`From` int auto_increment primary key comment 'it''s', `a.b` varchar(40) character set latin1 collate latin1_bin not null default 'it''s; \"x\"', `emoji ⛵` enum('sloop','ket''ch') default 'ket\\'ch', `back\\\\slash` set('x','y'), at timestamp(3) null default current_timestamp(3) on update current_timestamp(3), doubled decimal(8,2) as (big * 2) stored, seen bigint as (big + 1) virtual, big bigint unsigned zerofill, j json, constraint `odd; check` check (`a.b` <> 'x''y'), unique key `both ways` (`a.b`(10), at), fulltext key words (`a.b`)) comment='a ''table'''",
    "create table loops (id int auto_increment primary key, parent int, other bigint, constraint self foreign key (parent) references loops (id) on delete set null on update cascade)",
    "create table circle (id bigint primary key, loop_id int not null, constraint to_loop foreign key (loop_id) references loops (id))",
    "alter table loops add constraint `to circle` foreign key (other) references circle (id) on delete cascade",
    "create table twice (a bigint, b bigint, constraint t1 foreign key (a) references circle (id), constraint t2 foreign key (b) references circle (id))",
    "create table parts (id int, at date not null, primary key (id, at)) partition by range (year(at)) (partition early values less than (2031), partition late values less than maxvalue)",
    "create sequence tally start with 7 increment by -5 minvalue -100 maxvalue 100 cycle",
    "create function fee(draught decimal(8,2), days int) returns decimal(8,2) deterministic comment 'what ''it'' costs' begin declare f decimal(8,2); set f = draught * days; return f; end",
    "create view z_first as select `From` as n, `a.b` from `Select`",
    "create view a_second as select n + 1 as more, fee(n, 2) as f from z_first",
    "create procedure sweep(inout n int, out `odd name` varchar(9)) begin set n = n + 1; if n > 3 then set `odd name` = 'x;y'; end if; end",
    "create trigger `before ; all` before insert on `Select` for each row begin set new.at = now(3); set new.at = now(3); end",
    "create trigger again before insert on `Select` for each row set new.at = now(3)",
    "create event nightly on schedule every 1 day starts '2031-01-01 00:00:00' on completion preserve disable comment 'by ''night''' do begin delete from twice where a = 1; end",
];

/// What two databases have to agree in: everything but numbers of rows, sizes and uses.
fn shape(mut catalog: Catalog, database: &str) -> Vec<Object> {
    for object in &mut catalog.objects {
        object.rows = None;
        object.estimated = false;
        object.bytes = None;
        if object.schema == database {
            object.schema = "here".into();
        }
        for link in &mut object.links {
            if link.schema == database {
                link.schema = "here".into();
            }
        }
        for index in &mut object.indexes {
            index.bytes = None;
            index.uses = None;
        }
    }
    catalog.objects
}

fn rebuilt(server: &str, first: &str, second: &str) {
    let mut old = connect(server, first);
    let catalog = old.describe().catalog(1, &mut |_| {}).expect("read");
    let text = old.describe().script(1, &catalog).expect("written");
    let mut new = own(server, second);
    for piece in pieces(&text, new.dialect())
        .iter()
        .filter(|piece| piece.has_code)
    {
        let sql = &text[piece.start as usize..piece.end as usize];
        run(&mut *new, sql).unwrap_or_else(|error| panic!("{server}: {error}\n{sql}\n---\n{text}"));
    }
    let again = new.describe().catalog(1, &mut |_| {}).expect("read");
    let (before, after) = (shape(catalog, first), shape(again.clone(), second));
    if server == "postgres" {
        // What no list of the catalog shows is made again with the rest.
        let again = new.describe().script(1, &again).expect("written");
        assert_eq!(again, text.replace("-- Its password is not told.\n", ""));
        let options = text.contains("options (column_name 'ID')");
        assert!(options || !text.contains("create foreign table"), "{text}");
        assert!(!text.contains("low water"), "{text}");
    }
    let names = |list: &[Object]| -> Vec<String> {
        list.iter()
            .map(|o| format!("{} {}", o.kind.word(), o.name))
            .collect()
    };
    assert_eq!(names(&after), names(&before), "{server}");
    for (after, before) in after.iter().zip(&before) {
        assert_eq!(after, before, "{server}: {}", before.name);
    }
    // Each object's own definition says the same on both sides.
    let mut checked = 0;
    for object in &before {
        let define = |connection: &mut dyn Connection, database: &str| {
            let mut copy = object.clone();
            copy.definition = None;
            if copy.schema == "here" {
                copy.schema = database.into();
            }
            connection
                .describe()
                .define(1, &mut copy)
                .unwrap_or_else(|error| panic!("{server}: {}: {error}", object.name));
            copy.definition
        };
        let (a, b) = (define(&mut *old, first), define(&mut *new, second));
        assert_eq!(a, b, "{server}: {}", object.name);
        checked += usize::from(a.is_some());
    }
    assert!(checked > 10, "{server}: only {checked} have a definition");
}

#[test]
fn a_whole_harbour_is_made_again() {
    for server in servers() {
        let mut c = own(server, "rebuild_from");
        let settings = idle_tide_harbour::Settings {
            readings: 10,
            ..Default::default()
        };
        load_harbour(&mut *c, &settings).expect("loaded");
        rebuilt(server, "rebuild_from", "rebuild_to");
    }
}

#[test]
fn a_nasty_schema_is_made_again() {
    for server in servers() {
        let schema = match server {
            "postgres" => NASTY_POSTGRES,
            _ => NASTY_MARIADB,
        };
        let mut c = own(server, "nasty_from");
        for sql in schema {
            if server == "mysql" && sql.starts_with("create sequence") {
                continue;
            }
            run(&mut *c, sql).unwrap_or_else(|error| panic!("{server}: {error}\n{sql}"));
        }
        rebuilt(server, "nasty_from", "nasty_to");
    }
}
