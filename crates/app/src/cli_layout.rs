//! The options of formats on the command line, made from the table that `draw` has of them.

use clap::{Arg, ArgAction, ArgMatches, Args, Command, FromArgMatches};
use idle_tide_draw::Layout;
use idle_tide_draw::export::OPTIONS;

/// What was asked of a format.
#[derive(Debug, Clone, Default)]
pub struct LayoutOptions(Vec<(&'static str, Option<String>)>);

impl LayoutOptions {
    /// Sets all of them.
    ///
    /// # Errors
    /// In words, for one that says nothing to the format.
    pub fn set(&self, layout: &mut Layout) -> Result<(), String> {
        let mut all = self.0.iter();
        all.try_for_each(|(name, value)| layout.set(name, value.as_deref()))
    }
}

impl FromArgMatches for LayoutOptions {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        let mut given = Self::default();
        given.update_from_arg_matches(matches)?;
        Ok(given)
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        for (name, value, _) in OPTIONS {
            match value {
                Some(_) => {
                    if let Some(text) = matches.get_one::<String>(name) {
                        self.0.push((name, Some(text.clone())));
                    }
                }
                None if matches.get_flag(name) => self.0.push((name, None)),
                None => {}
            }
        }
        Ok(())
    }
}

impl Args for LayoutOptions {
    fn augment_args(command: Command) -> Command {
        OPTIONS
            .iter()
            .fold(command, |command, (name, value, help)| {
                let mut capital = help.to_string();
                if let Some(first) = capital.get_mut(..1) {
                    first.make_ascii_uppercase();
                }
                let arg = Arg::new(*name).long(*name).help(capital);
                command.arg(match value {
                    Some(value) => arg.value_name(*value).action(ArgAction::Set),
                    None => arg.action(ArgAction::SetTrue),
                })
            })
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}
