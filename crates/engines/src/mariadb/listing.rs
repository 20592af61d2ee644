//! The questions that lists of databases, roles and grants stand for.

use super::Mariadb;
use crate::engine::{Listing, Query};

/// Rights on databases and on everything that are rights on what is in them.
const OF_OBJECTS: &str = "'SELECT', 'INSERT', 'UPDATE', 'DELETE', 'CREATE', 'ALTER', 'DROP', 'INDEX', 'REFERENCES', 'TRIGGER', \
    'CREATE VIEW', 'SHOW VIEW', 'LOCK TABLES', 'EXECUTE', 'ALTER ROUTINE', 'DELETE HISTORY'";

/// The question that a list stands for.
pub(super) fn listing(of: &mut Mariadb, what: Listing<'_>) -> Query {
    let own = "What other users may do is not shown: this user may not read the server's tables of accounts.";
    match what {
        Listing::Databases(full) => Query {
            sql: format!(
                "select s.schema_name as name, s.default_character_set_name as encoding, s.default_collation_name as collation{} \
                 from information_schema.schemata s order by 1",
                if full {
                    ", (select cast(sum(data_length + index_length) as unsigned) from information_schema.tables t where t.table_schema = s.schema_name) as bytes, \
                     (select count(*) from information_schema.tables t where t.table_schema = s.schema_name) as tables"
                } else {
                    ""
                }
            ),
            note: Some("Databases have no owner in this family. Those that the present user may not enter are left out by the server.".into()),
        },
        Listing::Roles(full) => {
            let sees = of.ask("select 1 from mysql.user limit 0").is_ok();
            if !sees {
                return Query {
                    sql: "select current_user() as name, current_role() as role".into(),
                    note: Some(own.into()),
                };
            }
            let more = if full {
                ", u.plugin as \"checked by\", u.Create_user_priv = 'Y' as \"makes users\", u.Grant_priv = 'Y' as \"passes rights on\", u.password_expired = 'Y' as \"password expired\", u.max_user_connections as \"connection limit\""
            } else {
                ""
            };
            let sql = if of.is_mysql {
                format!("select u.User as name, u.Host as host, u.account_locked <> 'Y' as \"may log in\", u.Super_priv = 'Y' as \"all-powerful\"{more}, \
                    (select group_concat(e.from_user order by 1 separator ', ') from mysql.role_edges e where e.to_user = u.User and e.to_host = u.Host) as \"member of\" \
                    from mysql.user u order by 1, 2")
            } else {
                format!("select u.User as name, u.Host as host, u.is_role <> 'Y' as \"may log in\", u.Super_priv = 'Y' as \"all-powerful\"{more}, \
                    (select group_concat(m.Role order by 1 separator ', ') from mysql.roles_mapping m where m.User = u.User and m.Host = u.Host) as \"member of\" \
                    from mysql.user u order by 1, 2")
            };
            Query { sql: of.aliases(sql), note: None }
        }
        Listing::Access(name) => {
            let sees = of.ask("select 1 from mysql.user limit 0").is_ok();
            let only = name.map_or(String::new(), |name| {
                let plain = of.dialect.quote_text(name.rsplit('.').next().unwrap_or(name));
                // What is granted on the whole database, or on everything, is granted on it too.
                format!(" where name = {plain} or name like concat({plain}, '.%') \
                    or kind = 'everything' or kind = 'database' and database() like name")
            });
            let of_objects = match name {
                Some(_) => format!("where privilege_type in ({OF_OBJECTS})"),
                None => String::new(),
            };
            // MySQL cuts lists after 1024 letters.
            let whole = if of.is_mysql { "/*+ set_var(group_concat_max_len = 1048576) */ " } else { "" };
            let sql = format!(
                "select {whole}* from (\
                 select 'table' as kind, table_schema as \"database\", table_name as name, grantee, lower(group_concat(privilege_type order by privilege_type separator ', ')) as rights, max(is_grantable) = 'YES' as \"may pass on\" \
                   from information_schema.table_privileges group by table_schema, table_name, grantee \
                 union all select 'column', table_schema, concat(table_name, '.', column_name), grantee, lower(group_concat(privilege_type separator ', ')), max(is_grantable) = 'YES' \
                   from information_schema.column_privileges group by table_schema, table_name, column_name, grantee \
                 union all select 'database', table_schema, table_schema, grantee, lower(group_concat(privilege_type order by privilege_type separator ', ')), max(is_grantable) = 'YES' \
                   from information_schema.schema_privileges {of_objects} group by table_schema, grantee \
                 union all select 'everything', '', '*', grantee, lower(group_concat(privilege_type order by privilege_type separator ', ')), max(is_grantable) = 'YES' \
                   from information_schema.user_privileges {of_objects} group by grantee \
                 ) all_access{only} order by 1 desc, 2, 3, 4"
            );
            Query {
                sql: of.aliases(sql),
                note: Some(if sees { "Rights that come with a role are not spelled out here; /roles shows who is a member of what.".into() } else { own.to_string() }),
            }
        }
    }
}

impl Mariadb {
    /// Names in double quotes, in the quotes that this session's mode has for names.
    fn aliases(&self, sql: String) -> String {
        sql.replace('"', "`")
    }
}
