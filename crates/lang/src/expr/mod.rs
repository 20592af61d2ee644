//! The expression language, first part: comparisons, `and`, `or`, `not`, `in`, `between`, `like`,
//! `is null` and arithmetic over the columns of a row. Logic has two values: a comparison with null is
//! false, and `not` turns it over. Values of different kinds are never equal, smaller or larger.
//!
//! Phases: [`parse`] gives an [`Expr`] with places, [`bind`] ties its names to columns, [`Bound::holds`]
//! answers for one row.
//!
//! ```
//! use idle_tide_core::{Column, RowBatch, ValueRef};
//! use idle_tide_lang::expr;
//! let parsed = expr::parse("draught_m * 2 >= 3 and name like 'Grey%'").unwrap();
//! let columns = [Column::named("name"), Column::named("draught_m")];
//! let condition = expr::bind(&parsed, &columns).unwrap();
//! let mut rows = RowBatch::new();
//! rows.push_row([ValueRef::Text("Grey Heron"), ValueRef::Float(1.5)]);
//! assert_eq!(condition.holds(rows.row(0)), Ok(true));
//! ```

mod eval;
mod lexer;
mod parser;

use std::ops::Range;

pub use eval::{Bound, bind};
pub use parser::parse;

use idle_tide_core::Value;

/// Why an expression was not understood, cannot be bound, or fails on a row.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct ExprError {
    /// What is wrong, in plain words, with the way out.
    pub message: String,
    /// Where, in bytes.
    pub span: Range<usize>,
    /// Names or words that could stand there instead, best first.
    pub nearest: Vec<String>,
}

/// A node of an expression and its place.
#[derive(Debug, Clone, PartialEq)]
pub struct Expr {
    /// What it is.
    pub node: Node,
    /// Its place in the text, in bytes.
    pub span: Range<usize>,
}

/// An operator between two values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operator {
    /// `or`
    Or,
    /// `and`
    And,
    /// `=`
    Equal,
    /// `<>` or `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    LessOrEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterOrEqual,
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/`: 7/2 is 3.5
    Divide,
    /// `%`
    Remainder,
    /// `||`
    Concatenate,
}

/// The kinds of nodes.
#[derive(Debug, Clone, PartialEq)]
pub enum Node {
    /// A literal value.
    Literal(Value),
    /// A name, its parts apart.
    Path(Vec<String>),
    /// `not e`
    Not(Box<Expr>),
    /// `-e`
    Negative(Box<Expr>),
    /// `a op b`
    Binary(Operator, Box<Expr>, Box<Expr>),
    /// `e between low and high`; true at the end for `not between`
    Between(Box<Expr>, Box<Expr>, Box<Expr>, bool),
    /// `e in (…)`; true at the end for `not in`
    In(Box<Expr>, Vec<Expr>, bool),
    /// `e like pattern`; true at the end for `not like`. `%` stands for any text, `_` for one
    /// character; case counts (ISO/IEC 9075).
    Like(Box<Expr>, Box<Expr>, bool),
    /// `e is null`; true at the end for `is not null`
    IsNull(Box<Expr>, bool),
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::{Column, RowBatch, ValueRef};
    use proptest::prelude::*;

    fn holds(text: &str) -> Result<bool, ExprError> {
        let columns = ["n", "f", "t", "nothing", "order by"].map(Column::named);
        let mut rows = RowBatch::new();
        rows.push_row([
            ValueRef::Integer(7),
            ValueRef::Float(2.5),
            ValueRef::Text("Grey Heron"),
            ValueRef::Null,
            ValueRef::Text("12"),
        ]);
        bind(&parse(text)?, &columns)?.holds(rows.row(0))
    }

    #[test]
    fn conditions_hold_or_not() {
        for yes in [
            "n = 7 and f < 3",
            "n / 2 = 3.5 and n % 4 = 3 and -n < -6.5",
            "N between 7 and 8",
            "t like 'Grey%' and t like '_rey Heron' and t not like 'grey%'",
            "n in (1, 7) and n not in (2)",
            "nothing is null and n is not null",
            "not (nothing = 1)",
            "nothing <> 1 and not (nothing in (1))",
            "t = \"Grey Heron\" or false",
            "`order by` = '12'",
            "`order by` <> 12",
            "t || '!' = 'Grey Heron!'",
            "1 + 2 * 3 = 7 and (1 + 2) * 3 = 9",
            "not false or true and false",
            "nothing + 1 is null",
        ] {
            assert_eq!(holds(yes), Ok(true), "{yes}");
        }
        for no in [
            "nothing = nothing",
            "nothing > 0",
            "`order by` = 12",
            "`order by` < 13",
            "t > 1",
        ] {
            assert_eq!(holds(no), Ok(false), "{no}");
        }
    }

    #[test]
    fn mistakes_say_where_and_what() {
        let error = |text: &str| holds(text).expect_err(text);
        assert_eq!(error("n = ").span, 4..4);
        assert_eq!(error("ordr = 1").span, 0..4);
        assert_eq!(error("tt = 1").nearest[0], "t");
        assert!(error("n = null").message.contains("is null"));
        assert!(error("9223372036854775807 + n > 1").message.contains("64"));
        assert!(error("t = 'abc").message.contains("quote"));
        assert!(error("(n = 1").message.contains("bracket"));
        assert!(error("n = 1 n").message.contains("and"));
        assert!(error("").message.contains("condition"));
        assert!(error(&"(".repeat(5_000)).message.contains("deep"));
        assert!(error(&"not ".repeat(5_000)).message.contains("deep"));
    }

    proptest! {
        #[test]
        fn any_text_is_answered(text in "\\PC{0,40}|[ -~]{0,40}") {
            let _ = holds(&text);
        }
    }
}
