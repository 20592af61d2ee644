//! What a database has besides relations, types and routines, and no list shows: wrappers and servers of other databases with
//! their users (without passwords), collations, casts, operators, text search, publications. They are part of the statements
//! that make everything again.

use super::Postgres;
use super::catalog::OWN;
use super::piece::{Piece, Rows};
use crate::engine::EngineError;

/// The options of something, as a clause.
fn options(of: &str, but: &str) -> String {
    format!(
        "coalesce(' options (' || (select string_agg(quote_ident(option_name) || ' ' || quote_literal(option_value), ', ') \
         from pg_options_to_table({of}) {but}) || ')', '')"
    )
}

/// What makes options secret.
const SECRET: &str = "option_name ~* 'pass|secret|token|sslkey'";

/// The question for each kind: the numbers of the objects and their statements; `OID` and `CLASS` are those of the kind,
/// `MADE` stands for that it was made here and not by an extension.
fn questions(version: u32) -> Vec<(&'static str, String)> {
    let plain = "quote_ident(n.nspname) || '.' || ";
    let locale = match version {
        170_000.. => "coalesce(k.colllocale, k.collcollate)",
        150_000.. => "coalesce(k.colliculocale, k.collcollate)",
        _ => "k.collcollate",
    };
    let deterministic = match version {
        120_000.. => "case when k.collisdeterministic then '' else ', deterministic = false' end",
        _ => "''",
    };
    vec![
        (
            "pg_foreign_data_wrapper",
            format!(
                "select k.oid, 'create foreign data wrapper ' || quote_ident(fdwname) || case when fdwhandler <> 0 then ' handler ' || fdwhandler::regproc else '' end \
                 || case when fdwvalidator <> 0 then ' validator ' || fdwvalidator::regproc else '' end || {} || ';' from pg_catalog.pg_foreign_data_wrapper k where MADE order by fdwname",
                options("k.fdwoptions", "")
            ),
        ),
        (
            "pg_foreign_server",
            format!(
                "select k.oid, 'create server ' || quote_ident(srvname) || coalesce(' type ' || quote_literal(srvtype), '') || coalesce(' version ' || quote_literal(srvversion), '') \
                 || ' foreign data wrapper ' || quote_ident(fdwname) || {} || ';' from pg_catalog.pg_foreign_server k join pg_catalog.pg_foreign_data_wrapper w on w.oid = k.srvfdw where MADE order by srvname",
                options("k.srvoptions", "")
            ),
        ),
        (
            "pg_collation",
            format!(
                "select k.oid, 'create collation ' || {plain}quote_ident(collname) || ' (provider = ' || case k.collprovider when 'i' then 'icu' when 'b' then 'builtin' else 'libc' end \
                 || case k.collprovider when 'c' then ', lc_collate = ' || quote_literal(k.collcollate) || ', lc_ctype = ' || quote_literal(k.collctype) else ', locale = ' || quote_literal({locale}) end \
                 || {deterministic} || ');' from pg_catalog.pg_collation k join pg_catalog.pg_namespace n on n.oid = k.collnamespace where MADE and {OWN} order by n.nspname, collname"
            ),
        ),
        (
            "pg_cast",
            "select k.oid, 'create cast (' || format_type(castsource, null) || ' as ' || format_type(casttarget, null) || ')' \
             || case castmethod when 'f' then ' with function ' || castfunc::regprocedure when 'i' then ' with inout' else ' without function' end \
             || case castcontext when 'a' then ' as assignment' when 'i' then ' as implicit' else '' end || ';' from pg_catalog.pg_cast k where MADE order by 2"
                .into(),
        ),
        (
            "pg_operator",
            format!(
                "select k.oid, 'create operator ' || {plain}k.oprname || ' (procedure = ' || k.oprcode::regproc \
                 || case when k.oprleft <> 0 then ', leftarg = ' || format_type(k.oprleft, null) else '' end || case when k.oprright <> 0 then ', rightarg = ' || format_type(k.oprright, null) else '' end \
                 || coalesce((select ', commutator = operator(' || quote_ident(on_.nspname) || '.' || o.oprname || ')' from pg_catalog.pg_operator o join pg_catalog.pg_namespace on_ on on_.oid = o.oprnamespace where o.oid = k.oprcom), '') \
                 || coalesce((select ', negator = operator(' || quote_ident(on_.nspname) || '.' || o.oprname || ')' from pg_catalog.pg_operator o join pg_catalog.pg_namespace on_ on on_.oid = o.oprnamespace where o.oid = k.oprnegate), '') \
                 || case when k.oprrest <> 0 then ', restrict = ' || k.oprrest::regproc else '' end || case when k.oprjoin <> 0 then ', join = ' || k.oprjoin::regproc else '' end \
                 || case when k.oprcanhash then ', hashes' else '' end || case when k.oprcanmerge then ', merges' else '' end || ');' \
                 from pg_catalog.pg_operator k join pg_catalog.pg_namespace n on n.oid = k.oprnamespace where MADE and {OWN} and k.oprcode <> 0 order by 2"
            ),
        ),
        (
            "pg_ts_dict",
            format!(
                "select k.oid, 'create text search dictionary ' || {plain}quote_ident(dictname) || ' (template = ' || quote_ident(tn.nspname) || '.' || quote_ident(tmplname) || coalesce(', ' || dictinitoption, '') || ');' \
                 from pg_catalog.pg_ts_dict k join pg_catalog.pg_namespace n on n.oid = k.dictnamespace join pg_catalog.pg_ts_template t on t.oid = k.dicttemplate \
                 join pg_catalog.pg_namespace tn on tn.oid = t.tmplnamespace where MADE and {OWN} order by n.nspname, dictname"
            ),
        ),
        (
            "pg_ts_config",
            format!(
                "select k.oid, 'create text search configuration ' || {plain}quote_ident(cfgname) || ' (parser = ' || quote_ident(pn.nspname) || '.' || quote_ident(prsname) || ');' \
                 || coalesce((select string_agg(E'\\nalter text search configuration ' || {plain}quote_ident(cfgname) || ' add mapping for ' || token || ' with ' || dicts || ';', '' order by token) from \
                   (select (select alias from ts_token_type(k.cfgparser) y where y.tokid = m.maptokentype) as token, string_agg(m.mapdict::regdictionary::text, ', ' order by m.mapseqno) as dicts \
                    from pg_catalog.pg_ts_config_map m where m.mapcfg = k.oid group by m.maptokentype) mapped), '') \
                 from pg_catalog.pg_ts_config k join pg_catalog.pg_namespace n on n.oid = k.cfgnamespace join pg_catalog.pg_ts_parser p on p.oid = k.cfgparser \
                 join pg_catalog.pg_namespace pn on pn.oid = p.prsnamespace where MADE and {OWN} order by n.nspname, cfgname"
            ),
        ),
    ]
}

/// The statements for all of it that other objects may need, with what each is known by.
pub(super) fn pieces(of: &Postgres) -> Result<Vec<Piece>, EngineError> {
    let mut pieces = Vec::new();
    for (class, question) in questions(of.version_number()) {
        let made = format!(
            "k.oid >= 16384 and not exists (select from pg_catalog.pg_depend e where e.classid = '{class}'::regclass and e.objid = k.oid and e.deptype in ('e', 'i'))"
        );
        for row in of.ask(&question.replace("MADE", &made))? {
            let (Some(number), Some(text)) = (&row[0], &row[1]) else {
                continue;
            };
            pieces.push(Piece {
                key: (class.to_string(), number.clone()),
                text: text.clone(),
            });
        }
    }
    Ok(pieces)
}

/// The statements for what comes last: users on other servers, and publications.
pub(super) fn last(of: &Postgres) -> Result<Vec<String>, EngineError> {
    // A password is told to nobody; whoever runs this gives it.
    let users = of.ask(&format!(
        "select case when umoptions is null then E'-- Of its options this user may see none.\\n' \
           when exists (select from pg_options_to_table(umoptions) where {SECRET}) then E'-- Its password is not told.\\n' else '' end \
         || 'create user mapping for ' || case umuser when 0 then 'public' else quote_ident(usename) end || ' server ' || quote_ident(srvname) || {} || ';' \
         from pg_catalog.pg_user_mappings order by srvname, usename",
        options("umoptions", &format!("where not {SECRET}"))
    ))?;
    let (columns, only, schemas) = match of.version_number() {
        150_000.. => (
            "coalesce(' (' || (select string_agg(quote_ident(attname), ', ' order by attnum) from pg_catalog.pg_attribute where attrelid = r.prrelid and attnum = any(r.prattrs)) || ')', '')",
            "coalesce(' where (' || pg_get_expr(r.prqual, r.prrelid) || ')', '')",
            "(select string_agg('tables in schema ' || quote_ident(nspname), ', ' order by nspname) from pg_catalog.pg_publication_namespace s join pg_catalog.pg_namespace sn on sn.oid = s.pnnspid where s.pnpubid = p.oid)",
        ),
        _ => ("''", "''", "null"),
    };
    let publications = match of.version_number() {
        100_000.. => of.ask(&format!(
            "select 'create publication ' || quote_ident(pubname) || case when puballtables then ' for all tables' else coalesce(' for ' || concat_ws(', ', \
               (select string_agg('table ' || quote_ident(n.nspname) || '.' || quote_ident(c.relname) || {columns} || {only}, ', ' order by n.nspname, c.relname) from pg_catalog.pg_publication_rel r \
                 join pg_catalog.pg_class c on c.oid = r.prrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace where r.prpubid = p.oid), {schemas}), '') end \
             || ' with (publish = ' || quote_literal(concat_ws(', ', case when pubinsert then 'insert' end, case when pubupdate then 'update' end, case when pubdelete then 'delete' end, \
               case when (to_jsonb(p) ->> 'pubtruncate')::boolean then 'truncate' end)) || case when (to_jsonb(p) ->> 'pubviaroot')::boolean then ', publish_via_partition_root = true' else '' end || ');' \
             from pg_catalog.pg_publication p order by pubname"
        ))?,
        _ => Rows::new(),
    };
    Ok(users
        .into_iter()
        .chain(publications)
        .flatten()
        .flatten()
        .collect())
}
