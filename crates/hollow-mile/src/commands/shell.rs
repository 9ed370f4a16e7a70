//! `hollow-mile man` and `hollow-mile completions`: what a shell and `man` need to know of the program.

use crate::cli::{Cli, CompletionsArgs, ManArgs};
use crate::figure::write_whole;
use crate::text;
use clap::{Command, CommandFactory};
use mile_bench::Failure;

/// Name of the program on the command line.
const NAME: &str = "hollow-mile";

/// The manual page of a command.
fn page(command: Command, name: String) -> Result<Vec<u8>, Failure> {
    let mut out = Vec::new();
    // Its names on the command line and of its page were given when the program was built.
    clap_mangen::Man::new(command).title(name).manual("Hollow Mile").render(&mut out)?;
    Ok(out)
}

/// The pages of the program and its commands: the name of each, and its text.
fn pages() -> Result<Vec<(String, Vec<u8>)>, Failure> {
    let mut all = Vec::new();
    let mut root = Cli::command();
    root.build();
    all.push((NAME.to_owned(), page(root.clone(), NAME.to_owned())?));
    for sub in root.get_subcommands().filter(|c| !c.is_hide_set() && c.get_name() != "help") {
        let name = format!("{NAME}-{}", sub.get_name());
        all.push((name.clone(), page(sub.clone(), name)?));
    }
    Ok(all)
}

pub(crate) fn man(args: &ManArgs) -> Result<(), Failure> {
    let all = pages()?;
    let Some(folder) = &args.folder else {
        let wanted = args.command.as_ref().map_or(NAME.to_owned(), |c| format!("{NAME}-{c}"));
        let Some((_, page)) = all.iter().find(|(name, _)| *name == wanted) else {
            let known: Vec<&str> = all.iter().filter_map(|(n, _)| n.strip_prefix("hollow-mile-")).collect();
            return Err(Failure::usage(format!("there is no such command; there are {}", known.join(", "))));
        };
        text::say(String::from_utf8_lossy(page).trim_end());
        return Ok(());
    };
    for (name, page) in &all {
        write_whole(&folder.join(format!("{name}.1")), args.overwrite, |out| Ok(out.write_all(page)?))?;
    }
    text::say(&format!("{} pages are in {}.", all.len(), folder.display()));
    Ok(())
}

pub(crate) fn completions(args: &CompletionsArgs) -> Result<(), Failure> {
    let mut out = Vec::new();
    clap_complete::generate(args.shell, &mut Cli::command(), NAME, &mut out);
    text::say(String::from_utf8_lossy(&out).trim_end());
    Ok(())
}
