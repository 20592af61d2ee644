//! Statements that make and drop: the embedded database does it, and the system's views are told.

use rusqlite::params;
use sqlparser::ast::{
    AlterTableOperation, ColumnDef, ColumnOption, CreateIndex, CreateTable, ForeignKeyConstraint,
    Ident, IndexColumn, ObjectName, ObjectType, OrderBySort, PrimaryKeyConstraint,
    ReferentialAction, TableConstraint, UniqueConstraint,
};

use crate::execute::Session;
use crate::failure::Failure;
use crate::schema::{Declared, declared};
use crate::translate::{one, place};

type Done = Result<(), Failure>;

/// A column before it is made.
pub(crate) struct Column {
    pub(crate) name: String,
    pub(crate) declared: Declared,
    pub(crate) nullable: bool,
    identity: bool,
    default: Option<String>,
}

impl Column {
    /// How the embedded database is to compare its values.
    fn collation(&self) -> &'static str {
        match () {
            () if self.declared.exact => " collate numbers",
            () if self.declared.stored.contains("char") => " collate nocase",
            () => "",
        }
    }
}

/// What an index is for.
#[derive(Clone, Copy)]
enum Kind<'a> {
    Primary,
    Unique,
    Index(&'a CreateIndex),
}

fn action(action: Option<&ReferentialAction>) -> (&'static str, &'static str) {
    match action {
        Some(ReferentialAction::Cascade) => ("cascade", "CASCADE"),
        Some(ReferentialAction::SetNull) => ("set null", "SET_NULL"),
        Some(ReferentialAction::SetDefault) => ("set default", "SET_DEFAULT"),
        _ => ("no action", "NO_ACTION"),
    }
}

fn names(columns: &[IndexColumn]) -> Vec<(String, bool)> {
    columns
        .iter()
        .map(|column| {
            let words = column.column.expr.to_string();
            let name = words.trim_matches(['[', ']', '"']).to_string();
            (name, column.column.options.sort == Some(OrderBySort::Desc))
        })
        .collect()
}

fn listed(names: &[(String, bool)]) -> String {
    let quoted = names
        .iter()
        .map(|(name, down)| format!("{}{}", one(name), if *down { " desc" } else { "" }));
    quoted.collect::<Vec<_>>().join(", ")
}

impl Session {
    pub(crate) fn schema_of(&self, name: &ObjectName) -> Result<(i64, String, String), Failure> {
        let full = place(name, &self.database).map_err(Failure::unknown)?;
        let (schema, plain) = full
            .split_once('.')
            .map_or(("dbo".to_string(), full.as_str()), |(schema, name)| {
                (schema.to_string(), name)
            });
        let found = self.connection.query_row(
            "select schema_id from \"sys.schemas\" where name = ?1",
            [&schema],
            |row| row.get(0),
        );
        let id = found.map_err(|_| Failure::of(2760, 16, format!("The specified schema name \"{schema}\" either does not exist or you do not have permission to use it.")))?;
        Ok((id, plain.to_string(), full.clone()))
    }

    /// Tells the system's views of an object; gives its number.
    pub(crate) fn register(
        &self,
        schema: i64,
        name: &str,
        parent: i64,
        kind: &str,
    ) -> Result<i64, Failure> {
        let description = match kind {
            "U" => "USER_TABLE",
            "V" => "VIEW",
            "P" => "SQL_STORED_PROCEDURE",
            "F" => "FOREIGN_KEY_CONSTRAINT",
            "PK" => "PRIMARY_KEY_CONSTRAINT",
            "UQ" => "UNIQUE_CONSTRAINT",
            "C" => "CHECK_CONSTRAINT",
            "SN" => "SYNONYM",
            "SO" => "SEQUENCE_OBJECT",
            _ => "DEFAULT_CONSTRAINT",
        };
        let number: i64 = self.connection.query_row(
            "select coalesce(max(object_id), 901577300) + 16 from \"sys.objects\"",
            [],
            |row| row.get(0),
        )?;
        self.connection.execute(
            "insert into \"sys.objects\" values (?1, ?2, null, ?3, ?4, ?5, ?6, substr(t_getdate(), 1, 23), substr(t_getdate(), 1, 23), 0)",
            params![name, number, schema, parent, kind, description],
        )?;
        let schema: String = self.connection.query_row(
            "select name from \"sys.schemas\" where schema_id = ?1",
            [schema],
            |row| row.get(0),
        )?;
        let mut names = vec![format!("{schema}.{name}").to_lowercase()];
        if schema == "dbo" {
            names.push(name.to_lowercase());
        }
        for full in names {
            self.connection.execute(
                "insert or replace into t_names values (?1, ?2)",
                params![full, number],
            )?;
        }
        Ok(number)
    }

    fn column(&self, column: &ColumnDef) -> Result<Column, Failure> {
        let words = column.data_type.to_string();
        let Some(to) = declared(&words) else {
            return Err(Failure::of(
                2715,
                16,
                format!(
                    "Column, parameter, or variable {}: Cannot find data type {words}.",
                    column.name.value
                ),
            ));
        };
        let mut made = Column {
            name: column.name.value.clone(),
            declared: to,
            nullable: true,
            identity: false,
            default: None,
        };
        for option in &column.options {
            match &option.option {
                ColumnOption::NotNull => made.nullable = false,
                ColumnOption::Default(value) => made.default = Some(value.to_string()),
                ColumnOption::Identity(_) => {
                    made.identity = true;
                    made.nullable = false;
                }
                _ => {}
            }
        }
        Ok(made)
    }

    pub(crate) fn create_table(&mut self, table: &CreateTable) -> Done {
        let temporary = table.name.to_string().starts_with('#');
        let mut columns = Vec::new();
        let mut constraints = table.constraints.clone();
        for column in &table.columns {
            let mut made = self.column(column)?;
            for option in &column.options {
                let named = option.name.clone();
                match &option.option {
                    ColumnOption::PrimaryKey(key) => {
                        let mut key = key.clone();
                        key.name = named;
                        key.columns = vec![IndexColumn::from(column.name.clone())];
                        constraints.push(TableConstraint::PrimaryKey(key));
                    }
                    ColumnOption::Unique(key) => {
                        let mut key = key.clone();
                        key.name = named;
                        key.columns = vec![IndexColumn::from(column.name.clone())];
                        constraints.push(TableConstraint::Unique(key));
                    }
                    ColumnOption::ForeignKey(key) => {
                        let mut key = key.clone();
                        key.name = named;
                        key.columns = vec![column.name.clone()];
                        constraints.push(TableConstraint::ForeignKey(key));
                    }
                    ColumnOption::Check(check) => {
                        let mut check = check.clone();
                        check.name = named;
                        constraints.push(TableConstraint::Check(check));
                    }
                    _ => {}
                }
            }
            for constraint in &constraints {
                if let TableConstraint::PrimaryKey(key) = constraint
                    && names(&key.columns)
                        .iter()
                        .any(|(name, _)| name.eq_ignore_ascii_case(&made.name))
                {
                    made.nullable = false;
                }
            }
            columns.push(made);
        }
        if temporary {
            let mut bare = table.name.clone();
            bare.0.truncate(1);
            return self
                .make(&bare.to_string(), &columns, &constraints, true)
                .map(drop);
        }
        let (schema, plain, full) = self.schema_of(&table.name)?;
        self.make(&full, &columns, &constraints, false)?;
        let number = self.register(schema, &plain, 0, "U")?;
        self.describe_columns(number, &columns)?;
        self.connection
            .execute("insert into \"sys.partitions\" values (?1, 1, 0)", [number])?;
        let mut primary = false;
        for (at, constraint) in constraints.iter().enumerate() {
            self.describe_constraint(number, &plain, schema, at, constraint)?;
            primary |= matches!(constraint, TableConstraint::PrimaryKey(_));
        }
        if !primary {
            self.connection.execute(
                "insert into \"sys.indexes\" values (?1, null, 0, 0, 'HEAP', 0, 0, 0, 0, null, 0)",
                [number],
            )?;
        }
        Ok(())
    }

    /// A table for the rows of a query.
    pub(crate) fn create_for(&mut self, name: &str, fields: Vec<(String, Declared)>) -> Done {
        let columns: Vec<Column> = fields
            .into_iter()
            .map(|(name, declared)| Column {
                name,
                declared,
                nullable: true,
                identity: false,
                default: None,
            })
            .collect();
        let temporary = name.starts_with('#');
        self.make(name, &columns, &[], temporary)?;
        if temporary {
            return Ok(());
        }
        let number = self.register(1, name, 0, "U")?;
        self.describe_columns(number, &columns)?;
        self.connection
            .execute("insert into \"sys.partitions\" values (?1, 1, 0)", [number])?;
        Ok(())
    }

    fn make(
        &mut self,
        full: &str,
        columns: &[Column],
        constraints: &[TableConstraint],
        temporary: bool,
    ) -> Done {
        let mut parts = Vec::new();
        let single: Option<String> = constraints.iter().find_map(|constraint| match constraint {
            TableConstraint::PrimaryKey(key) if key.columns.len() == 1 => {
                Some(names(&key.columns)[0].0.to_lowercase())
            }
            _ => None,
        });
        let mut counted = false;
        for column in columns {
            let mut words = format!("{} {}", one(&column.name), column.declared.stored);
            if column.identity {
                if single.as_deref() != Some(&column.name.to_lowercase()) {
                    return Err(Failure::unknown(
                        "an identity column that is not the primary key",
                    ));
                }
                words = format!("{} integer primary key autoincrement", one(&column.name));
                counted = true;
            } else {
                words.push_str(column.collation());
                if !column.nullable {
                    words.push_str(" not null");
                }
                if let Some(default) = &column.default {
                    words.push_str(&format!(" default ({})", self.expression(default)?));
                }
            }
            parts.push(words);
        }
        for constraint in constraints {
            match constraint {
                TableConstraint::PrimaryKey(key) if !counted => {
                    parts.push(format!("primary key ({})", listed(&names(&key.columns))))
                }
                TableConstraint::Unique(key) => {
                    parts.push(format!("unique ({})", listed(&names(&key.columns))))
                }
                TableConstraint::ForeignKey(key) => parts.push(self.foreign(key)?),
                TableConstraint::Check(check) => {
                    let name = check.name.as_ref().map_or(String::new(), |name| {
                        format!("constraint {} ", one(&name.value))
                    });
                    parts.push(format!(
                        "{name}check ({})",
                        self.expression(&check.expr.to_string())?
                    ));
                }
                _ => {}
            }
        }
        let temporary = if temporary { "temp " } else { "" };
        self.connection.execute_batch(&format!(
            "create {temporary}table {} ({})",
            one(full),
            parts.join(", ")
        ))?;
        Ok(())
    }

    fn foreign(&self, key: &ForeignKeyConstraint) -> Result<String, Failure> {
        let plain = |columns: &[Ident]| {
            columns
                .iter()
                .map(|c| one(&c.value).to_string())
                .collect::<Vec<_>>()
                .join(", ")
        };
        let other = place(&key.foreign_table, &self.database).map_err(Failure::unknown)?;
        let referred = match key.referred_columns.is_empty() {
            true => String::new(),
            false => format!(" ({})", plain(&key.referred_columns)),
        };
        Ok(format!(
            "foreign key ({}) references {}{referred} on delete {} on update {}",
            plain(&key.columns),
            one(&other),
            action(key.on_delete.as_ref()).0,
            action(key.on_update.as_ref()).0
        ))
    }

    fn describe_columns(&self, table: i64, columns: &[Column]) -> Done {
        for (at, column) in columns.iter().enumerate() {
            self.describe_column(table, at as i64 + 1, column)?;
        }
        Ok(())
    }

    fn describe_column(&self, table: i64, at: i64, column: &Column) -> Done {
        let info = &column.declared.info;
        let length = if info.length == idle_tide_tabular::types::ANY {
            -1
        } else {
            i64::from(info.length)
        };
        let is_text = column.declared.stored.contains("char")
            || column.declared.stored.contains("text") && info.collation != [0; 5];
        let mut default = 0;
        if let Some(value) = &column.default {
            let owner: (i64, String) = self.connection.query_row(
                "select schema_id, name from \"sys.objects\" where object_id = ?1",
                [table],
                |row| Ok((row.get(0)?, row.get(1)?)),
            )?;
            let name = format!("DF__{}__{}", owner.1, column.name);
            default = self.register(owner.0, &name, table, "D")?;
            self.connection.execute(
                "insert into \"sys.default_constraints\" values (?1, ?2, ?3, ?4, ?5)",
                params![default, name, table, at, format!("({value})")],
            )?;
        }
        let precision = if matches!(column.declared.number, 106 | 108) {
            info.precision
        } else {
            0
        };
        let (known_precision, known_scale): (i64, i64) = self.connection.query_row(
            "select precision, scale from \"sys.types\" where user_type_id = ?1",
            [column.declared.number],
            |row| Ok((row.get(0)?, row.get(1)?)),
        )?;
        let (precision, scale) = match precision {
            0 if matches!(column.declared.number, 41..=43) => (
                known_precision - 7 + i64::from(info.scale),
                i64::from(info.scale),
            ),
            0 => (known_precision, known_scale),
            precision => (i64::from(precision), i64::from(info.scale)),
        };
        self.connection.execute(
            "insert into \"sys.columns\" values (?1, ?2, ?3, ?4, ?4, ?5, ?6, ?7, ?8, ?9, ?10, 0, ?11)",
            params![table, column.name, at, column.declared.number, length, precision, scale, is_text.then_some("Latin1_General_CI_AS"), column.nullable, column.identity, default],
        )?;
        Ok(())
    }

    fn column_number(&self, table: i64, name: &str) -> Result<i64, Failure> {
        let found = self.connection.query_row(
            "select column_id from \"sys.columns\" where object_id = ?1 and name = ?2",
            params![table, name],
            |row| row.get(0),
        );
        found.map_err(|_| {
            Failure::of(
                1911,
                16,
                format!("Column name '{name}' does not exist in the target table or view."),
            )
        })
    }

    fn describe_index(
        &self,
        table: i64,
        name: &str,
        columns: &[(String, bool)],
        of: Kind<'_>,
    ) -> Result<i64, Failure> {
        let (primary, constraint) = (matches!(of, Kind::Primary), matches!(of, Kind::Unique));
        let (unique, included, filter) = match of {
            Kind::Primary | Kind::Unique => (true, &[][..], None),
            Kind::Index(index) => (
                index.unique,
                &index.include[..],
                index.predicate.as_ref().map(|filter| format!("({filter})")),
            ),
        };
        let next: i64 = self.connection.query_row(
            "select coalesce(max(index_id), 0) + 1 from \"sys.indexes\" where object_id = ?1",
            [table],
            |row| row.get(0),
        )?;
        let next = if primary { 1 } else { next.max(2) };
        let kind = if primary {
            (1, "CLUSTERED")
        } else {
            (2, "NONCLUSTERED")
        };
        self.connection.execute(
            "insert into \"sys.indexes\" values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, 0)",
            params![
                table,
                name,
                next,
                kind.0,
                kind.1,
                unique,
                primary,
                constraint,
                filter.is_some(),
                filter
            ],
        )?;
        for (at, (column, down)) in columns.iter().enumerate() {
            let number = self.column_number(table, column)?;
            self.connection.execute(
                "insert into \"sys.index_columns\" values (?1, ?2, ?3, ?4, ?3, ?5, 0)",
                params![table, next, at as i64 + 1, number, down],
            )?;
        }
        for (at, column) in included.iter().enumerate() {
            let number = self.column_number(table, &column.value)?;
            self.connection.execute(
                "insert into \"sys.index_columns\" values (?1, ?2, ?3, ?4, 0, 0, 1)",
                params![table, next, (columns.len() + at) as i64 + 1, number],
            )?;
        }
        Ok(next)
    }

    fn describe_key(
        &self,
        table: i64,
        schema: i64,
        name: &str,
        columns: &[IndexColumn],
        of: Kind<'_>,
    ) -> Done {
        let short = if matches!(of, Kind::Primary) {
            "PK"
        } else {
            "UQ"
        };
        let number = self.register(schema, name, table, short)?;
        let index = self.describe_index(table, name, &names(columns), of)?;
        self.connection.execute(
            "insert into \"sys.key_constraints\" values (?1, ?2, ?3, ?4, ?5)",
            params![number, name, table, short, index],
        )?;
        Ok(())
    }

    fn describe_constraint(
        &self,
        table: i64,
        plain: &str,
        schema: i64,
        at: usize,
        constraint: &TableConstraint,
    ) -> Done {
        let named = |name: Option<&Ident>, short: &str| {
            name.map_or(format!("{short}__{plain}__{at}"), |name| name.value.clone())
        };
        match constraint {
            TableConstraint::PrimaryKey(PrimaryKeyConstraint { name, columns, .. }) => {
                self.describe_key(
                    table,
                    schema,
                    &named(name.as_ref(), "PK"),
                    columns,
                    Kind::Primary,
                )?;
            }
            TableConstraint::Unique(UniqueConstraint { name, columns, .. }) => {
                self.describe_key(
                    table,
                    schema,
                    &named(name.as_ref(), "UQ"),
                    columns,
                    Kind::Unique,
                )?;
            }
            TableConstraint::Check(check) => {
                let name = named(check.name.as_ref(), "CK");
                let number = self.register(schema, &name, table, "C")?;
                self.connection.execute(
                    "insert into \"sys.check_constraints\" values (?1, ?2, ?3, 0, ?4, 0)",
                    params![number, name, table, format!("({})", check.expr)],
                )?;
            }
            TableConstraint::ForeignKey(key) => {
                let name = named(key.name.as_ref(), "FK");
                let (_, _, other) = self.schema_of(&key.foreign_table)?;
                let other: i64 = self
                    .connection
                    .query_row(
                        "select object_id from t_names where full = ?1",
                        [other.to_lowercase()],
                        |row| row.get(0),
                    )
                    .map_err(|_| {
                        Failure::of(
                            1767,
                            16,
                            format!(
                                "Foreign key '{name}' references invalid table '{}'.",
                                key.foreign_table
                            ),
                        )
                    })?;
                let number = self.register(schema, &name, table, "F")?;
                self.connection.execute(
                    "insert into \"sys.foreign_keys\" values (?1, ?2, ?3, ?4, ?5, ?6, 0)",
                    params![
                        number,
                        name,
                        table,
                        other,
                        action(key.on_delete.as_ref()).1,
                        action(key.on_update.as_ref()).1
                    ],
                )?;
                let keys: Vec<i64> = match key.referred_columns.is_empty() {
                    false => key
                        .referred_columns
                        .iter()
                        .map(|c| self.column_number(other, &c.value))
                        .collect::<Result<_, _>>()?,
                    true => {
                        let mut query = self.connection.prepare("select column_id from \"sys.index_columns\" where object_id = ?1 and index_id = 1 order by key_ordinal")?;
                        let found = query.query_map([other], |row| row.get(0))?;
                        found.collect::<Result<Vec<i64>, _>>()?
                    }
                };
                for (at, (column, referred)) in key.columns.iter().zip(keys).enumerate() {
                    let column = self.column_number(table, &column.value)?;
                    self.connection.execute(
                        "insert into \"sys.foreign_key_columns\" values (?1, ?2, ?3, ?4, ?5, ?6)",
                        params![number, at as i64 + 1, table, column, other, referred],
                    )?;
                }
            }
            _ => return Err(Failure::unknown("this kind of constraint")),
        }
        Ok(())
    }

    pub(crate) fn number_of(&self, name: &ObjectName) -> Result<i64, Failure> {
        let full = place(name, &self.database).map_err(Failure::unknown)?;
        let found = self.connection.query_row(
            "select object_id from t_names where full = ?1",
            [full.to_lowercase()],
            |row| row.get(0),
        );
        found.map_err(|_| Failure::of(4902, 16, format!("Cannot find the object \"{name}\" because it does not exist or you do not have permissions.")))
    }

    pub(crate) fn create_index(&mut self, index: &CreateIndex) -> Done {
        let table = self.number_of(&index.table_name)?;
        let full = place(&index.table_name, &self.database).map_err(Failure::unknown)?;
        let name = index
            .name
            .as_ref()
            .map(ToString::to_string)
            .unwrap_or_default();
        let name = name.trim_matches(['[', ']', '"']).to_string();
        let columns = names(&index.columns);
        let filter = index.predicate.as_ref().map(ToString::to_string);
        let where_ = match &filter {
            Some(filter) => format!(" where {}", self.expression(filter)?),
            None => String::new(),
        };
        let unique = if index.unique { "unique " } else { "" };
        self.connection.execute_batch(&format!(
            "create {unique}index {} on {} ({}){where_}",
            one(&format!("{full}.{name}")),
            one(&full),
            listed(&columns)
        ))?;
        self.describe_index(table, &name, &columns, Kind::Index(index))
            .map(drop)
    }

    pub(crate) fn alter_table(
        &mut self,
        name: &ObjectName,
        operations: &[AlterTableOperation],
    ) -> Done {
        let table = self.number_of(name)?;
        let full = place(name, &self.database).map_err(Failure::unknown)?;
        for operation in operations {
            match operation {
                AlterTableOperation::AddColumn { column_def, .. } => {
                    let column = self.column(column_def)?;
                    let mut words = format!("{} {}", one(&column.name), column.declared.stored);
                    words.push_str(column.collation());
                    if !column.nullable {
                        words.push_str(" not null");
                    }
                    if let Some(default) = &column.default {
                        words.push_str(&format!(" default {}", self.expression(default)?));
                    }
                    self.connection
                        .execute_batch(&format!("alter table {} add column {words}", one(&full)))?;
                    let at: i64 = self.connection.query_row("select coalesce(max(column_id), 0) + 1 from \"sys.columns\" where object_id = ?1", [table], |row| row.get(0))?;
                    self.describe_column(table, at, &column)?;
                }
                AlterTableOperation::DropColumn { column_names, .. } => {
                    for column in column_names {
                        self.connection.execute_batch(&format!(
                            "alter table {} drop column {}",
                            one(&full),
                            one(&column.value)
                        ))?;
                        self.connection.execute(
                            "delete from \"sys.columns\" where object_id = ?1 and name = ?2",
                            params![table, column.value],
                        )?;
                    }
                }
                other => return Err(Failure::unknown(format!("alter table {other}"))),
            }
        }
        Ok(())
    }

    /// Forgets an object and what hangs on it.
    fn forget(&self, number: i64) -> Done {
        for (view, column) in [
            ("sys.columns", "object_id"),
            ("sys.indexes", "object_id"),
            ("sys.index_columns", "object_id"),
            ("sys.sql_modules", "object_id"),
            ("sys.partitions", "object_id"),
            ("sys.foreign_keys", "parent_object_id"),
            ("sys.foreign_key_columns", "parent_object_id"),
            ("sys.check_constraints", "parent_object_id"),
            ("sys.default_constraints", "parent_object_id"),
            ("sys.key_constraints", "parent_object_id"),
            ("sys.extended_properties", "major_id"),
            ("sys.parameters", "object_id"),
            ("sys.synonyms", "object_id"),
            ("sys.sequences", "object_id"),
            ("sys.objects", "parent_object_id"),
            ("sys.objects", "object_id"),
        ] {
            self.connection.execute(
                &format!("delete from \"{view}\" where {column} = ?1"),
                [number],
            )?;
        }
        self.connection.execute(
            "delete from t_names where object_id not in (select object_id from \"sys.objects\")",
            [],
        )?;
        Ok(())
    }

    pub(crate) fn drop_objects(
        &mut self,
        kind: &ObjectType,
        names: &[ObjectName],
        if_exists: bool,
        of_table: Option<&ObjectName>,
    ) -> Done {
        for name in names {
            if let (ObjectType::Index, Some(table)) = (kind, of_table) {
                let full = place(table, &self.database).map_err(Failure::unknown)?;
                let plain = name.to_string().trim_matches(['[', ']', '"']).to_string();
                let number = self.number_of(table)?;
                self.connection
                    .execute_batch(&format!("drop index {}", one(&format!("{full}.{plain}"))))?;
                self.connection.execute("delete from \"sys.index_columns\" where object_id = ?1 and index_id = (select index_id from \"sys.indexes\" where object_id = ?1 and name = ?2)", params![number, plain])?;
                self.connection.execute(
                    "delete from \"sys.indexes\" where object_id = ?1 and name = ?2",
                    params![number, plain],
                )?;
                continue;
            }
            let full = place(name, &self.database).map_err(Failure::unknown)?;
            let word = match kind {
                ObjectType::View => "view",
                _ => "table",
            };
            if full.starts_with('#') {
                self.connection.execute_batch(&format!(
                    "drop table {}{}",
                    if if_exists { "if exists " } else { "" },
                    one(&full)
                ))?;
                continue;
            }
            let Ok(number) = self.number_of(name) else {
                if if_exists {
                    continue;
                }
                return Err(Failure::of(
                    3701,
                    11,
                    format!(
                        "Cannot drop the {word} '{name}', because it does not exist or you do not have permission."
                    ),
                ));
            };
            let used: i64 = self.connection.query_row("select count(*) from \"sys.foreign_keys\" where referenced_object_id = ?1 and parent_object_id <> ?1", [number], |row| row.get(0))?;
            if used > 0 {
                return Err(Failure::of(
                    3726,
                    16,
                    format!(
                        "Could not drop object '{name}' because it is referenced by a FOREIGN KEY constraint."
                    ),
                ));
            }
            if matches!(kind, ObjectType::Table | ObjectType::View) {
                self.connection
                    .execute_batch(&format!("drop {word} {}", one(&full)))?;
            }
            self.forget(number)?;
        }
        Ok(())
    }

    pub(crate) fn drop_module(&mut self, name: &ObjectName, if_exists: bool) -> Done {
        match self.number_of(name) {
            Ok(number) => self.forget(number),
            Err(_) if if_exists => Ok(()),
            Err(error) => Err(error),
        }
    }

    /// Keeps the text of a view or procedure.
    pub(crate) fn keep_module(
        &mut self,
        name: &ObjectName,
        kind: &str,
        text: &str,
        or_alter: bool,
    ) -> Result<i64, Failure> {
        let (schema, plain, _) = self.schema_of(name)?;
        if let Ok(number) = self.number_of(name) {
            if !or_alter {
                return Err(Failure::of(
                    2714,
                    16,
                    format!("There is already an object named '{plain}' in the database."),
                ));
            }
            self.forget(number)?;
        }
        let number = self.register(schema, &plain, 0, kind)?;
        self.connection.execute(
            "insert into \"sys.sql_modules\" values (?1, ?2)",
            params![number, text],
        )?;
        Ok(number)
    }

    pub(crate) fn describe_view(&self, number: i64, fields: Vec<(String, Declared)>) -> Done {
        for (at, (name, declared)) in fields.into_iter().enumerate() {
            let column = Column {
                name,
                declared,
                nullable: true,
                identity: false,
                default: None,
            };
            self.describe_column(number, at as i64 + 1, &column)?;
        }
        Ok(())
    }
}
