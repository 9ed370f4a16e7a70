//! `hollow-mile course`: test plans as text.

use crate::cli::{CourseArgs, CourseCommand};
use crate::session::read_course;
use crate::{Failure, text};
use mile_course::{Access, Action};

pub(crate) fn run(args: &CourseArgs) -> Result<(), Failure> {
    let CourseCommand::Check { file } = &args.command;
    let name = file.display();
    let source = std::fs::read_to_string(file)
        .map_err(|e| Failure::usage(format!("the course {name} cannot be read: {e}")))?;
    let course = read_course(&source, &name.to_string())?;
    text::say(&format!(
        "{name}: \"{}\", {} legs, a sample every {}",
        course.name,
        course.legs.len(),
        course.sample_every
    ));
    for leg in &course.legs {
        let what = match &leg.action {
            Action::Rest(_) => "rest".to_owned(),
            Action::Flush => "flush".to_owned(),
            Action::Discard(_) => "discard".to_owned(),
            Action::Transfer(t) => {
                let order = if t.access == Access::Random { "random" } else { "sequential" };
                format!(
                    "{} {order}, blocks {}, depth {}",
                    if t.verify { "verify" } else { t.op.word() },
                    mile_core::units::block_size(t.block),
                    t.depth
                )
            }
        };
        text::say(&format!("    {:<14} {what}", leg.name));
    }
    Ok(())
}
