//! Idle Tide: work with databases in a terminal.

fn main() {
    std::process::exit(idle_tide::cli::main());
}
