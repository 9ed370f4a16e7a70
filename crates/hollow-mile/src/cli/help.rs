//! The help of the program as a whole, with its commands in groups.

use clap::Command;
use std::fmt::Write;
use std::io::IsTerminal;

/// The groups, each with its commands.
const GROUPS: [(&str, &[&str]); 5] = [
    ("Run a course", &["demo", "run", "attach", "resume", "leftovers", "course"]),
    ("See what runs show", &["findings", "compare", "fleet", "report", "export"]),
    ("Look at drives and instruments", &["bench", "health", "watch", "selftest", "instrument"]),
    ("Keep runs", &["logbook", "lab"]),
    ("Help", &["man", "completions", "help"]),
];
/// Columns of the names, and of the whole in a terminal that has as many.
const NAMES: usize = 14;
const WIDE: usize = 100;
const NARROW: usize = 60;

/// A command line with the commands of its help in groups.
pub(super) fn grouped(command: Command) -> Command {
    // Only a terminal is asked: where there is none, the library starts another program to find out.
    let size = std::io::stdout().is_terminal().then(crossterm::terminal::size).and_then(Result::ok);
    let wide = size.map_or(WIDE, |(w, _)| usize::from(w).clamp(NARROW, WIDE));
    let text = groups(&command, wide);
    command.help_template(format!(
        "{{before-help}}{{about-with-newline}}\n{{usage-heading}} {{usage}}\n\n{text}Options:\n{{options}}{{after-help}}"
    ))
}

fn groups(command: &Command, wide: usize) -> String {
    let mut out = String::new();
    for (title, names) in GROUPS {
        let _ = writeln!(out, "{title}:");
        for name in names {
            let about = match command.get_subcommands().find(|c| c.get_name() == *name) {
                Some(own) => own.get_about().map(ToString::to_string).unwrap_or_default(),
                None => "Print this message or the help of the given command".to_owned(),
            };
            for (i, line) in crate::wrap::wrap(&about, wide - NAMES - 2).iter().enumerate() {
                let name = if i == 0 { name } else { "" };
                let _ = writeln!(out, "  {name:<NAMES$}{line}");
            }
        }
        out.push('\n');
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cli::Cli;
    use clap::CommandFactory;

    #[test]
    fn every_command_that_is_shown_is_in_one_group_and_no_line_is_too_long() {
        let command = Cli::command();
        let shown: Vec<&str> =
            command.get_subcommands().filter(|c| !c.is_hide_set()).map(Command::get_name).collect();
        let listed: Vec<&str> = GROUPS.iter().flat_map(|g| g.1).copied().filter(|n| *n != "help").collect();
        for name in &shown {
            assert_eq!(listed.iter().filter(|n| *n == name).count(), 1, "{name}");
        }
        assert_eq!(shown.len(), listed.len(), "{listed:?}");
        let help = grouped(Cli::command()).render_help().to_string();
        assert!(help.lines().all(|l| l.chars().count() <= WIDE), "{help}");
        for (title, _) in GROUPS {
            assert!(help.contains(&format!("\n{title}:\n")), "{help}");
        }
        assert!(help.contains("--logbook <FILE>"), "{help}");
    }
}
