//! The questions that lists of databases, roles and grants stand for.

use crate::engine::{Listing, Query};

/// The question that a list stands for.
pub(super) fn listing(what: Listing<'_>) -> Query {
    match what {
        Listing::Databases(full) => Query {
            sql: format!(
                "select d.name as name, d.collation_name as collation, d.state_desc as state{} from sys.databases d order by d.name",
                match full {
                    true => ", d.is_read_only as \"only reads\", d.user_access_desc as access",
                    false => "",
                }
            ),
            note: Some(
                "Databases that the present login may not see are left out by the server.".into(),
            ),
        },
        Listing::Roles(full) => Query {
            sql: format!(
                "select p.name as name, p.type_desc as kind, r.name as \"member of\"{} from sys.database_principals p \
                 left join sys.database_role_members m on m.member_principal_id = p.principal_id \
                 left join sys.database_principals r on r.principal_id = m.role_principal_id order by p.name, r.name",
                if full {
                    ", p.principal_id as number, p.is_fixed_role as \"of the server's making\""
                } else {
                    ""
                }
            ),
            note: Some(
                "These are the users and roles of this database; logins belong to the server."
                    .into(),
            ),
        },
        Listing::Access(name) => {
            let only = name.map_or(String::new(), |name| {
                let plain = name.rsplit('.').next().unwrap_or(name).replace('\'', "''");
                format!(" where o.name = N'{plain}'")
            });
            Query {
                sql: format!(
                    "select s.name as \"schema\", o.name as name, p.name as grantee, g.permission_name as \"right\", g.state_desc as state \
                     from sys.database_permissions g join sys.database_principals p on p.principal_id = g.grantee_principal_id \
                     left join sys.objects o on o.object_id = g.major_id and g.class = 1 left join sys.schemas s on s.schema_id = o.schema_id{only} \
                     order by s.name, o.name, p.name"
                ),
                note: Some("Rights that come with a role are not spelled out here; /roles shows who is a member of what.".into()),
            }
        }
    }
}
