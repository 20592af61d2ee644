//! How a server means to run a statement, or how it ran: a tree of steps with rows and times as far as the
//! server tells them.

/// A step.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Step {
    /// What is done, in the server's words.
    pub what: String,
    /// On which table or index.
    pub on: String,
    /// Conditions, keys and orders.
    pub details: Vec<String>,
    /// How many rows the server expects of it, over all its runs.
    pub expected: Option<f64>,
    /// How many there were.
    pub rows: Option<f64>,
    /// How often it ran.
    pub runs: Option<f64>,
    /// What it costs with all its parts, in the server's own unit.
    pub cost: Option<f64>,
    /// Milliseconds it took with all its parts.
    pub time: Option<f64>,
    /// Its parts.
    pub parts: Vec<Step>,
}

/// A plan.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Plan {
    /// The first steps; most plans have one.
    pub steps: Vec<Step>,
    /// Whether the statement was run to measure it.
    pub measured: bool,
    /// The plan as the server wrote it.
    pub text: String,
    /// What is to be known about it, in whole sentences.
    pub notes: Vec<String>,
}

impl Step {
    /// A number with all parts. Some servers leave the parts of a step out of its number, or give it none.
    fn whole(&self, number: fn(&Step) -> Option<f64>) -> f64 {
        let parts: f64 = self.parts.iter().map(|part| part.whole(number)).sum();
        number(self).unwrap_or(0.0).max(parts)
    }

    /// A number without what its parts account for.
    fn own(&self, number: fn(&Step) -> Option<f64>) -> Option<f64> {
        let parts: f64 = self.parts.iter().map(|part| part.whole(number)).sum();
        number(self).map(|whole| if whole >= parts { whole - parts } else { 0.0 })
    }

    /// Milliseconds it took itself.
    pub fn own_time(&self) -> Option<f64> {
        self.own(|step| step.time)
    }

    /// What it costs itself, in the server's own unit.
    pub fn own_cost(&self) -> Option<f64> {
        self.own(|step| step.cost)
    }
}

impl Plan {
    /// All steps from the first to the last, each with how deep it stands.
    pub fn walk(&self) -> Vec<(usize, &Step)> {
        let mut list = Vec::new();
        let mut stack: Vec<(usize, &Step)> =
            self.steps.iter().rev().map(|step| (0, step)).collect();
        while let Some((depth, step)) = stack.pop() {
            list.push((depth, step));
            stack.extend(step.parts.iter().rev().map(|part| (depth + 1, part)));
        }
        list
    }

    /// The step that takes most, by its place in [`Plan::walk`], and its share of the whole: by time where it
    /// was measured, else by cost. Nothing where neither is known, or no step stands out.
    pub fn costliest(&self) -> Option<(usize, f64)> {
        let walk = self.walk();
        for own in [Step::own_time as fn(&Step) -> Option<f64>, Step::own_cost] {
            let numbers: Vec<Option<f64>> = walk.iter().map(|(_, step)| own(step)).collect();
            let whole: f64 = numbers.iter().flatten().sum();
            let most = numbers
                .iter()
                .enumerate()
                .filter_map(|(at, number)| number.map(|n| (at, n)))
                .max_by(|a, b| a.1.total_cmp(&b.1));
            if let Some((at, number)) = most
                && whole > 0.0
            {
                let share = number / whole;
                return (walk.len() > 1 && share >= 0.25).then_some((at, share));
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_costliest_step_is_found_by_its_own_share() {
        let step = |time: Option<f64>, cost: f64, parts: Vec<Step>| Step {
            time,
            cost: Some(cost),
            parts,
            ..Step::default()
        };
        let tree = |times: [Option<f64>; 3]| Plan {
            steps: vec![step(
                times[0],
                100.0,
                vec![
                    step(times[1], 90.0, Vec::new()),
                    step(times[2], 5.0, Vec::new()),
                ],
            )],
            ..Plan::default()
        };
        assert_eq!(tree([None; 3]).costliest(), Some((1, 0.9)));
        assert_eq!(
            tree([Some(10.0), Some(1.0), Some(8.0)]).costliest(),
            Some((2, 0.8))
        );
        assert_eq!(tree([Some(10.0), Some(1.0), Some(8.0)]).walk()[2].0, 1);
        assert_eq!(Plan::default().costliest(), None);
        // A step without a number, or with one that leaves its parts out, hides nothing from those above.
        let between = step(None, 0.0, vec![step(Some(8.0), 0.0, Vec::new())]);
        let plan = Plan {
            steps: vec![step(Some(10.0), 0.0, vec![between])],
            ..Plan::default()
        };
        assert_eq!(plan.steps[0].own_time(), Some(2.0));
        assert_eq!(plan.costliest(), Some((2, 0.8)));
    }
}
