//! The questions that lists of databases, roles and grants stand for.

use idle_tide_lang::dialect::POSTGRES;

use crate::engine::{Listing, Query};

/// The question that a list stands for.
pub(super) fn listing(what: Listing<'_>) -> Query {
    match what {
        Listing::Databases(full) => Query {
            sql: format!(
                "select d.datname as name, pg_get_userbyid(d.datdba) as owner, pg_encoding_to_char(d.encoding) as encoding, \
                 d.datcollate as collation{} , shobj_description(d.oid, 'pg_database') as comment \
                 from pg_catalog.pg_database d where not d.datistemplate order by 1",
                if full {
                    ", case when has_database_privilege(d.oid, 'connect') then pg_database_size(d.oid) end as bytes, \
                     d.datallowconn as \"may be entered\", d.datconnlimit as \"connection limit\""
                } else {
                    ""
                }
            ),
            note: Some("Templates are left out.".into()),
        },
        Listing::Roles(full) => Query {
            sql: format!(
                "select r.rolname as name, r.rolcanlogin as \"may log in\", r.rolsuper as \"all-powerful\"{}, \
                 (select string_agg(g.rolname, ', ' order by g.rolname) from pg_catalog.pg_auth_members m \
                   join pg_catalog.pg_roles g on g.oid = m.roleid where m.member = r.oid) as \"member of\", \
                 shobj_description(r.oid, 'pg_authid') as comment \
                 from pg_catalog.pg_roles r where r.rolname !~ '^pg_' order by 1",
                if full {
                    ", r.rolcreatedb as \"makes databases\", r.rolcreaterole as \"makes roles\", r.rolinherit as inherits, \
                     r.rolreplication as replicates, r.rolbypassrls as \"past row rules\", r.rolconnlimit as \"connection limit\", \
                     r.rolvaliduntil as \"valid until\""
                } else {
                    ""
                }
            ),
            note: Some("The roles that come with the server (pg_…) are left out.".into()),
        },
        Listing::Access(name) => {
            let only = name.map_or(String::new(), |name| {
                let (schema, plain) = name
                    .split_once('.')
                    .map_or((None, name), |(s, n)| (Some(s), n));
                let mut only = format!(" where name = {}", POSTGRES.quote_text(plain));
                if let Some(schema) = schema {
                    only.push_str(&format!(" and schema = {}", POSTGRES.quote_text(schema)));
                }
                only
            });
            Query {
                sql: format!(
                    "select * from (\
                     select case c.relkind when 'v' then 'view' when 'm' then 'materialised view' when 'S' then 'sequence' when 'f' then 'foreign table' else 'table' end as kind, \
                       n.nspname as schema, c.relname as name, x.grantee, x.rights, x.\"may pass on\", x.grantor \
                       from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace, \
                       lateral (select case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end as grantee, \
                         string_agg(lower(a.privilege_type), ', ' order by a.privilege_type) as rights, bool_or(a.is_grantable) as \"may pass on\", \
                         pg_get_userbyid(a.grantor) as grantor from aclexplode(coalesce(c.relacl, acldefault(case c.relkind when 'S' then 's'::\"char\" else 'r'::\"char\" end, c.relowner))) a group by a.grantee, a.grantor) x \
                       where c.relkind in ('r', 'p', 'v', 'm', 'S', 'f') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema' \
                     union all \
                     select 'column', n.nspname, c.relname || '.' || t.attname, case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end, \
                       string_agg(lower(a.privilege_type), ', '), bool_or(a.is_grantable), pg_get_userbyid(a.grantor) \
                       from pg_catalog.pg_attribute t join pg_catalog.pg_class c on c.oid = t.attrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace, \
                       lateral aclexplode(t.attacl) a where t.attacl is not null and n.nspname !~ '^pg_' and n.nspname <> 'information_schema' group by 1, 2, 3, 4, 7 \
                     union all \
                     select 'schema', '', n.nspname, case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end, \
                       string_agg(lower(a.privilege_type), ', '), bool_or(a.is_grantable), pg_get_userbyid(a.grantor) \
                       from pg_catalog.pg_namespace n, lateral aclexplode(coalesce(n.nspacl, acldefault('n', n.nspowner))) a \
                       where n.nspname !~ '^pg_' and n.nspname <> 'information_schema' group by 1, 2, 3, 4, 7 \
                     union all \
                     select 'database', '', d.datname, case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end, \
                       string_agg(lower(a.privilege_type), ', '), bool_or(a.is_grantable), pg_get_userbyid(a.grantor) \
                       from pg_catalog.pg_database d, lateral aclexplode(coalesce(d.datacl, acldefault('d', d.datdba))) a \
                       where d.datname = current_database() group by 1, 2, 3, 4, 7 \
                     union all \
                     select 'default for ' || case d.defaclobjtype when 'r' then 'tables' when 'S' then 'sequences' when 'f' then 'functions' when 'T' then 'types' else 'schemas' end, \
                       coalesce((select nspname from pg_catalog.pg_namespace where oid = d.defaclnamespace), ''), 'made by ' || pg_get_userbyid(d.defaclrole), \
                       case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end, string_agg(lower(a.privilege_type), ', '), bool_or(a.is_grantable), pg_get_userbyid(a.grantor) \
                       from pg_catalog.pg_default_acl d, lateral aclexplode(d.defaclacl) a group by 1, 2, 3, 4, 7 \
                     ) all_access{only} order by 1 desc, 2, 3, 4"
                ),
                note: Some("Rights that come with a membership are not spelled out here; /roles --full shows who is a member of what.".into()),
            }
        }
    }
}
