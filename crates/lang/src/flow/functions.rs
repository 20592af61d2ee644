//! The functions of the expression language: one table, from which the parser, the checks, the evaluator, the compiler, completion and the
//! guide take what they know.

/// Which function.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Id {
    Abs,
    Ceiling,
    Coalesce,
    Contains,
    Date,
    Day,
    Ends,
    Exp,
    Floor,
    Greatest,
    Hour,
    Kind,
    Largest,
    Least,
    Length,
    Ln,
    Lower,
    Mean,
    Minute,
    Month,
    Now,
    NullIf,
    Number,
    Power,
    Replace,
    Round,
    Second,
    SecondsBetween,
    Size,
    Smallest,
    Split,
    Sqrt,
    Starts,
    Substring,
    Text,
    Total,
    Trim,
    Truncate,
    Unique,
    Upper,
    Weekday,
    Year,
}

/// A function.
#[derive(Debug, PartialEq, Eq)]
pub struct Function {
    /// Which one.
    pub id: Id,
    /// Its name.
    pub name: &'static str,
    /// Its arguments, as they are shown.
    pub arguments: &'static str,
    /// How many it takes at least.
    pub least: usize,
    /// How many it takes at most.
    pub most: usize,
    /// What it gives, one sentence.
    pub gives: &'static str,
    /// An example and what it gives, as literals; checked by a test.
    pub example: (&'static str, &'static str),
}

const fn function(
    id: Id,
    name: &'static str,
    arguments: &'static str,
    counts: (usize, usize),
    gives: &'static str,
    example: (&'static str, &'static str),
) -> Function {
    Function {
        id,
        name,
        arguments,
        least: counts.0,
        most: counts.1,
        gives,
        example,
    }
}

/// Every function, sorted by name. Where an argument is of another kind than a function takes, it gives null.
pub const FUNCTIONS: &[Function] = &[
    function(
        Id::Abs,
        "abs",
        "number",
        (1, 1),
        "The number without its sign.",
        ("abs(-2.5)", "2.5"),
    ),
    function(
        Id::Ceiling,
        "ceiling",
        "number",
        (1, 1),
        "The next whole number, upwards.",
        ("ceiling(2.1)", "3.0"),
    ),
    function(
        Id::Coalesce,
        "coalesce",
        "value, value, ...",
        (1, 64),
        "The first value that is there and not null.",
        ("coalesce(null, 7)", "7"),
    ),
    function(
        Id::Contains,
        "contains",
        "text, part",
        (2, 2),
        "Whether the text holds the part.",
        ("contains('grey heron', 'her')", "true"),
    ),
    function(
        Id::Date,
        "date",
        "value",
        (1, 1),
        "The moment that a text (ISO 8601) or milliseconds since 1970 stand for.",
        ("date('2031-03-01')", "timestamp '2031-03-01T00:00:00Z'"),
    ),
    function(
        Id::Day,
        "day",
        "date",
        (1, 1),
        "The day of the month, in UTC as all parts of dates.",
        ("day(timestamp '2031-03-01T05:12:00Z')", "1"),
    ),
    function(
        Id::Ends,
        "ends",
        "text, part",
        (2, 2),
        "Whether the text ends with the part.",
        ("ends('grey heron', 'heron')", "true"),
    ),
    function(
        Id::Exp,
        "exp",
        "number",
        (1, 1),
        "Euler's number to this power.",
        ("exp(0)", "1.0"),
    ),
    function(
        Id::Floor,
        "floor",
        "number",
        (1, 1),
        "The next whole number, downwards.",
        ("floor(-2.1)", "-3.0"),
    ),
    function(
        Id::Greatest,
        "greatest",
        "value, value, ...",
        (1, 64),
        "The largest of its arguments; null and what is not there are left out.",
        ("greatest(3, null, 7)", "7"),
    ),
    function(
        Id::Hour,
        "hour",
        "date",
        (1, 1),
        "The hour.",
        ("hour(timestamp '2031-03-01T05:12:00Z')", "5"),
    ),
    function(
        Id::Kind,
        "kind",
        "value",
        (1, 1),
        "The word for the kind of a value: int, text, list, missing and so on.",
        ("kind('tide')", "'text'"),
    ),
    function(
        Id::Largest,
        "largest",
        "list",
        (1, 1),
        "The largest element; null and what is not there are left out.",
        ("largest([3, 7, 5])", "7"),
    ),
    function(
        Id::Least,
        "least",
        "value, value, ...",
        (1, 64),
        "The smallest of its arguments; null and what is not there are left out.",
        ("least(3, null, 7)", "3"),
    ),
    function(
        Id::Length,
        "length",
        "text",
        (1, 1),
        "The number of characters.",
        ("length('tide')", "4"),
    ),
    function(
        Id::Ln,
        "ln",
        "number",
        (1, 1),
        "The natural logarithm; null where there is none.",
        ("ln(1)", "0.0"),
    ),
    function(
        Id::Lower,
        "lower",
        "text",
        (1, 1),
        "The text with the letters A to Z made small.",
        ("lower('Grey Heron')", "'grey heron'"),
    ),
    function(
        Id::Mean,
        "mean",
        "list",
        (1, 1),
        "The mean of the numbers in a list.",
        ("mean([3, 4])", "3.5"),
    ),
    function(
        Id::Minute,
        "minute",
        "date",
        (1, 1),
        "The minute.",
        ("minute(timestamp '2031-03-01T05:12:00Z')", "12"),
    ),
    function(
        Id::Month,
        "month",
        "date",
        (1, 1),
        "The month.",
        ("month(timestamp '2031-03-01T05:12:00Z')", "3"),
    ),
    function(
        Id::Now,
        "now",
        "",
        (0, 0),
        "The present moment, the same throughout a statement.",
        ("now() is of date", "true"),
    ),
    function(
        Id::NullIf,
        "nullif",
        "value, other",
        (2, 2),
        "Null where both are equal, else the value.",
        ("nullif(7, 7)", "null"),
    ),
    function(
        Id::Number,
        "number",
        "value",
        (1, 1),
        "The number that a text, a boolean (1 or 0) or a date (milliseconds) stands for; null where none.",
        ("number('12.5')", "12.5"),
    ),
    function(
        Id::Power,
        "power",
        "number, number",
        (2, 2),
        "The first number to the power of the second.",
        ("power(2, 10)", "1024.0"),
    ),
    function(
        Id::Replace,
        "replace",
        "text, part, by",
        (3, 3),
        "The text with every occurrence of the part replaced.",
        ("replace('low tide', 'low', 'high')", "'high tide'"),
    ),
    function(
        Id::Round,
        "round",
        "number, places",
        (1, 2),
        "Rounded to so many places after the point, half to even.",
        ("round(2.345, 1)", "2.3"),
    ),
    function(
        Id::Second,
        "second",
        "date",
        (1, 1),
        "The second.",
        ("second(timestamp '2031-03-01T05:12:09Z')", "9"),
    ),
    function(
        Id::SecondsBetween,
        "seconds_between",
        "date, date",
        (2, 2),
        "The seconds from the first moment to the second.",
        (
            "seconds_between(timestamp '2031-03-01T05:12:00Z', timestamp '2031-03-01T05:13:30Z')",
            "90.0",
        ),
    ),
    function(
        Id::Size,
        "size",
        "list",
        (1, 1),
        "The number of elements.",
        ("size(['crab', 'bass'])", "2"),
    ),
    function(
        Id::Smallest,
        "smallest",
        "list",
        (1, 1),
        "The smallest element; null and what is not there are left out.",
        ("smallest([3, 7, 5])", "3"),
    ),
    function(
        Id::Split,
        "split",
        "text, by",
        (2, 2),
        "The parts of a text between a separator.",
        ("split('a,b', ',')", "['a', 'b']"),
    ),
    function(
        Id::Sqrt,
        "sqrt",
        "number",
        (1, 1),
        "The square root; null below zero.",
        ("sqrt(9)", "3.0"),
    ),
    function(
        Id::Starts,
        "starts",
        "text, part",
        (2, 2),
        "Whether the text starts with the part.",
        ("starts('grey heron', 'grey')", "true"),
    ),
    function(
        Id::Substring,
        "substring",
        "text, from, count",
        (2, 3),
        "So many characters from this one on, counted from 1; all that follow without a count.",
        ("substring('heron', 2, 3)", "'ero'"),
    ),
    function(
        Id::Text,
        "text",
        "value",
        (1, 1),
        "A number, boolean, date or identifier as text.",
        ("text(12)", "'12'"),
    ),
    function(
        Id::Total,
        "total",
        "list",
        (1, 1),
        "The sum of the numbers in a list.",
        ("total([3, 4.5, 'x'])", "7.5"),
    ),
    function(
        Id::Trim,
        "trim",
        "text",
        (1, 1),
        "The text without blanks around it.",
        ("trim('  tide ')", "'tide'"),
    ),
    function(
        Id::Truncate,
        "truncate",
        "date, unit",
        (2, 2),
        "The moment at which the year, quarter, month, week (Monday), day, hour, minute or second began.",
        (
            "truncate(timestamp '2031-03-15T05:12:00Z', 'month')",
            "timestamp '2031-03-01T00:00:00Z'",
        ),
    ),
    function(
        Id::Unique,
        "unique",
        "list",
        (1, 1),
        "The different elements of a list, sorted.",
        ("unique([3, 1, 3])", "[1, 3]"),
    ),
    function(
        Id::Upper,
        "upper",
        "text",
        (1, 1),
        "The text with the letters a to z made large.",
        ("upper('heron')", "'HERON'"),
    ),
    function(
        Id::Weekday,
        "weekday",
        "date",
        (1, 1),
        "The day of the week: 1 is Monday, 7 is Sunday (ISO 8601).",
        ("weekday(timestamp '2031-03-01T05:12:00Z')", "6"),
    ),
    function(
        Id::Year,
        "year",
        "date",
        (1, 1),
        "The year.",
        ("year(timestamp '2031-03-01T05:12:00Z')", "2031"),
    ),
];

/// The function of this name, without regard to case.
pub fn named(name: &str) -> Option<&'static Function> {
    let lower = name.to_ascii_lowercase();
    let at = FUNCTIONS
        .binary_search_by(|f| f.name.cmp(lower.as_str()))
        .ok()?;
    FUNCTIONS.get(at)
}

/// The functions over the documents of a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AggregateFunction {
    /// How many documents.
    Count,
    /// How many different values.
    CountDifferent,
    /// The sum of numbers.
    Sum,
    /// The mean of numbers.
    Avg,
    /// The smallest value.
    Min,
    /// The largest value.
    Max,
    /// The value of the first document.
    First,
    /// The value of the last document.
    Last,
    /// All values.
    List,
    /// All different values.
    Different,
    /// The standard deviation of a sample.
    Stddev,
    /// The value below which a share lies.
    Percentile,
}

use AggregateFunction as A;

/// The functions over groups: name, arguments, what they give, which.
pub const AGGREGATES: &[(&str, &str, &str, A)] = &[
    ("avg", "value", "The mean of the numbers.", A::Avg),
    (
        "count",
        "",
        "How many documents; of count(different value), how many different values.",
        A::Count,
    ),
    (
        "different",
        "value",
        "The different values, as a list in no certain order.",
        A::Different,
    ),
    (
        "first",
        "value",
        "The value of the first document.",
        A::First,
    ),
    ("last", "value", "The value of the last document.", A::Last),
    ("list", "value", "All values, as a list.", A::List),
    ("max", "value", "The largest value.", A::Max),
    ("min", "value", "The smallest value.", A::Min),
    (
        "percentile",
        "value, share",
        "The number below which this share of the numbers lies: 0.95 for 95 %.",
        A::Percentile,
    ),
    (
        "stddev",
        "value",
        "The standard deviation of the numbers, as a sample.",
        A::Stddev,
    ),
    ("sum", "value", "The sum of the numbers.", A::Sum),
];

/// The words with which a stage begins: the word, what follows, what it does.
pub const STAGES: &[(&str, &str, &str)] = &[
    ("add", "{ name: value, ... }", "adds or replaces fields"),
    (
        "band",
        "path at (10, 20, ...)  or  into 5",
        "groups by bands of a value",
    ),
    ("count", "as name", "how many"),
    (
        "distinct",
        "path",
        "the different values of a path with their counts",
    ),
    (
        "emit",
        "key => value",
        "map: a key and a value of each document",
    ),
    ("finish", "value", "the value over key and what was folded"),
    (
        "fold",
        "name = start then value",
        "reduce: what each value makes of the name",
    ),
    (
        "group",
        "by path, ... { name: sum(path), ... }",
        "groups with counts, sums and so on",
    ),
    (
        "join",
        "collection as name on path = name.path",
        "matches of another collection, as a list; join one: the first",
    ),
    ("limit", "number", "at most so many"),
    ("offset", "number", "leaves out the first so many"),
    ("order", "by path desc, ...", "in order"),
    (
        "pick",
        "{ path, name: value, ... }",
        "only these fields come out",
    ),
    ("raw", "[ { $stage: ... } ]", "the server's own stages"),
    ("sample", "number", "so many by chance"),
    (
        "save",
        "into collection by path  or  over collection",
        "writes the documents into a collection",
    ),
    (
        "unnest",
        "path as name keeping empty",
        "one document for each element of a list",
    ),
    ("where", "condition", "only those that satisfy it"),
    ("without", "path, ...", "takes fields out"),
];

/// The words with which a statement begins: the word, what follows, what it does.
pub const STATEMENTS: &[(&str, &str, &str)] = &[
    (
        "begin",
        "",
        "opens a transaction, where the server has them",
    ),
    ("call", "{ command: 1 }", "any command of the server"),
    (
        "change",
        "password of user",
        "a new password, asked for with hidden input",
    ),
    ("commit", "", "keeps what the transaction changed"),
    (
        "create",
        "collection name  or  index on collection (path)  or  user name with roles [...]",
        "makes a collection, an index, a user",
    ),
    (
        "delete",
        "from collection where condition",
        "removes documents",
    ),
    (
        "drop",
        "collection name  or  index name on collection  or  database name  or  user name",
        "removes things",
    ),
    (
        "empty",
        "collection",
        "removes all documents and keeps the collection",
    ),
    ("from", "collection", "reads documents"),
    ("insert", "into collection { ... }", "adds documents"),
    (
        "rename",
        "collection name to name",
        "gives a collection another name",
    ),
    ("rollback", "", "takes back what the transaction changed"),
    (
        "update",
        "collection where condition set path = value",
        "changes documents",
    ),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_tables_are_sorted() {
        assert!(FUNCTIONS.is_sorted_by_key(|f| f.name));
        assert!(AGGREGATES.is_sorted_by_key(|a| a.0));
        assert!(STAGES.is_sorted() && STATEMENTS.is_sorted());
        assert_eq!(named("LOWER").map(|f| f.id), Some(Id::Lower));
    }
}
