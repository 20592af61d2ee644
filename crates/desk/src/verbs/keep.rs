//! `/keep` and `/take-back`: how a change that is held ends.

use idle_tide_lang::command::Parsed;

use super::{Needs, Verb};
use crate::failure::{Failure, plain};
use crate::held::Settle;
use crate::session::{Next, Turn};

/// Ends a change that is held.
pub(crate) struct Ends {
    name: &'static str,
    keep: bool,
}

pub(crate) static KEEP: Ends = Ends {
    name: "keep",
    keep: true,
};
pub(crate) static TAKE_BACK: Ends = Ends {
    name: "take-back",
    keep: false,
};

impl Verb for Ends {
    fn name(&self) -> &'static str {
        self.name
    }

    fn needs(&self, _: &Parsed) -> Needs {
        Needs::Session
    }

    fn start(&self, turn: &mut Turn<'_>, _: &Parsed, _: Option<String>) -> Result<Next, Failure> {
        let settle = Settle::begin(turn, self.keep, false);
        let settle = settle.ok_or_else(|| plain("No change is held here."))?;
        turn.start(settle);
        Ok(Next::Keep)
    }
}
