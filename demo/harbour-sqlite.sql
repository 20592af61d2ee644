-- The practice harbour, Brackwater Haven. Everything in it is made up.
create table owners ( -- who answers for a vessel
  id integer primary key,
  name text not null,
  kind text not null check (kind in ('person', 'company', 'trust')),
  phone text, -- as they gave it
  email text,
  since text not null -- first season in the harbour
);
create table vessels ( -- every vessel that has ever called
  id integer primary key,
  name text not null, -- painted on the stern; two may share one
  owner_id integer not null references owners (id),
  call_sign text unique, -- for the radio
  length_m numeric(5,2) not null,
  draught_m numeric(4,2) not null, -- deepest, with stores
  built integer, -- year, where known
  rig text not null,
  note text
);
create table quays ( -- where one can lie
  code text primary key,
  name text not null,
  faces text not null,
  built integer
);
create table berths (
  id integer primary key,
  quay text not null references quays (code), -- the quay it belongs to
  code text not null unique,
  depth_m numeric(4,2) not null, -- at chart datum
  dries boolean not null, -- 1 when it falls dry
  crane boolean not null
);
create table visits ( -- one stay of one vessel
  id integer primary key,
  vessel_id integer not null references vessels (id),
  berth_id integer not null references berths (id), -- where the vessel lay
  arrived timestamp not null,
  left_at timestamp, -- null while she is still in
  draught_m numeric(4,2) not null, -- on arrival
  crew integer not null,
  note text
);
create index visits_by_vessel on visits (vessel_id, arrived);
create unique index one_per_tide on visits (berth_id, arrived);
create table dues ( -- what a visit costs
  id integer primary key,
  visit_id integer not null references visits (id) on delete cascade,
  amount numeric(12,2) not null,
  raised_on date not null,
  paid_on date -- null while it is owed
);
create index dues_by_visit on dues (visit_id);
create table services ( -- what can be ordered alongside
  id integer primary key,
  name text not null unique,
  unit text not null,
  price numeric(8,2) not null
);
create table visit_services ( -- what was ordered
  visit_id integer not null references visits (id) on delete cascade,
  service_id integer not null references services (id),
  quantity numeric(8,2) not null,
  primary key (visit_id, service_id)
) without rowid;
create table cargo (
  id integer primary key,
  visit_id integer not null references visits (id) on delete cascade,
  goods text not null,
  tonnes numeric(8,1),
  hazardous boolean not null default 0
);
create table gauges ( -- tide gauges
  id integer primary key,
  name text not null unique,
  datum_m numeric(5,2) not null, -- zero of the gauge above chart datum
  installed date not null
);
create table readings ( -- every half hour from each gauge
  gauge_id integer not null references gauges (id),
  at timestamp not null,
  level_m numeric(5,2) not null,
  temp_c numeric(4,1),
  battery_v numeric(4,2), -- null when the gauge did not say
  primary key (gauge_id, at)
) without rowid;
create table tides ( -- predicted
  day date not null,
  high integer not null, -- 1 or 2
  at timestamp not null,
  height_m numeric(4,2) not null,
  springs boolean not null,
  primary key (day, high)
);
create table weather (
  at timestamp primary key,
  wind_kn integer not null,
  gust_kn integer,
  direction text not null,
  pressure_hpa numeric(5,1) not null,
  sky text
);
create table keepers ( -- who keeps watch
  id integer primary key,
  name text not null,
  rank text not null,
  pass_hash text not null -- never shown to the public
);
create table watches ( -- who is on watch, and where
  id integer primary key,
  keeper_id integer not null references keepers (id),
  post text not null,
  starts timestamp not null,
  ends timestamp not null
);
create table work_orders (
  id integer primary key,
  berth_id integer references berths (id),
  opened_on date not null,
  closed_on date,
  priority integer not null default 3 check (priority between 1 and 5),
  done_by integer references keepers (id), -- null until somebody has it
  description text not null,
  cost text -- typed in by hand: mostly a number
);
create table incidents (
  id integer primary key,
  visit_id integer references visits (id),
  at timestamp not null,
  severity integer not null,
  report text not null -- in the watch keeper's words
);
create table tows ( -- kept by the tug's owner, who knows call signs only
  id integer primary key,
  vessel text, -- a call sign, not declared as a link
  at timestamp not null,
  minutes integer not null,
  line_m numeric(5,1)
);
create table charts (
  id integer primary key,
  title text not null,
  edition integer not null,
  seal blob not null -- checksum of the printed sheet
);
create virtual table notices using fts5 (title, body);
create view in_port as -- vessels that have not left
  select v.id, v.name, b.code as berth, s.arrived, s.draught_m
  from visits s join vessels v on v.id = s.vessel_id join berths b on b.id = s.berth_id
  where s.left_at is null;
create view owed as -- what each owner still has to pay
  select o.name as owner, count(*) as bills, sum(d.amount) as amount
  from dues d join visits s on s.id = d.visit_id
  join vessels v on v.id = s.vessel_id join owners o on o.id = v.owner_id
  where d.paid_on is null group by o.id;
create trigger dues_not_negative before insert on dues when new.amount < 0
begin
  select raise(abort, 'dues cannot be negative');
end;
