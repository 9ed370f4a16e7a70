//! `hollow-mile course`: test plans as text.

use crate::cli::{CourseArgs, CourseCommand};
use crate::{Failure, text};
use mile_course::{Access, Action};

pub(crate) fn run(args: &CourseArgs) -> Result<(), Failure> {
    let CourseCommand::Check { file } = &args.command;
    let name = file.display();
    let source = std::fs::read_to_string(file)
        .map_err(|e| Failure::usage(format!("the course {name} cannot be read: {e}")))?;
    let course = mile_course::parse(&source).map_err(|errors| {
        let count =
            if errors.len() == 1 { "one error".to_owned() } else { format!("{} errors", errors.len()) };
        let list: Vec<String> = errors.iter().map(|e| e.render(&source)).collect();
        Failure::usage(format!("{name}: {count}\n\n{}", list.join("\n").trim_end()))
    })?;
    text::say(&format!(
        "{name}: \"{}\", {} legs, a sample every {}",
        course.name,
        course.legs.len(),
        course.sample_every
    ));
    for leg in &course.legs {
        let what = match &leg.action {
            Action::Rest(_) => "rest".to_owned(),
            Action::Transfer(t) => {
                let order = if t.access == Access::Random { "random" } else { "sequential" };
                format!(
                    "{} {order}, blocks {}, depth {}",
                    t.op.word(),
                    mile_core::units::block_size(t.block),
                    t.depth
                )
            }
        };
        text::say(&format!("    {:<14} {what}", leg.name));
    }
    Ok(())
}
