//! Which process writes a run, in a form that tells whether it is still there: a process number alone may be another
//! process by now, or on another boot.

use std::fs;

/// This process.
pub(super) fn this() -> String {
    let pid = std::process::id();
    format!("{} {} {}", pid, started(pid).unwrap_or(0), boot())
}

/// Whether the process that a logbook names still runs.
pub(super) fn is_alive(owner: &str) -> bool {
    let mut parts = owner.split(' ');
    let (Some(pid), Some(start), Some(on)) = (parts.next(), parts.next(), parts.next()) else { return false };
    let (Ok(pid), Ok(start)) = (pid.parse::<u32>(), start.parse::<u64>()) else { return false };
    on == boot() && started(pid) == Some(start)
}

fn boot() -> String {
    fs::read_to_string("/proc/sys/kernel/random/boot_id")
        .map_or_else(|_| "unknown".into(), |t| t.trim().to_owned())
}

/// When a process started, in ticks since the boot: field 22 of its stat line, counted behind the command's closing bracket,
/// which may itself hold anything. A process that has ended and waits to be collected (state Z) counts as gone.
fn started(pid: u32) -> Option<u64> {
    let line = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let mut behind = line.rsplit_once(')')?.1.split_whitespace();
    if behind.next()? == "Z" {
        return None;
    }
    behind.nth(18)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn this_process_is_alive_and_others_are_not() {
        assert!(is_alive(&this()));
        let mut child = std::process::Command::new("sleep").arg("30").spawn().unwrap();
        let other = format!("{} {} {}", child.id(), started(child.id()).unwrap(), boot());
        assert!(is_alive(&other));
        child.kill().unwrap();
        child.wait().unwrap();
        assert!(!is_alive(&other));
        assert!(!is_alive(&format!("{} 1 {}", std::process::id(), boot())), "same number, another start");
        assert!(!is_alive("") && !is_alive("x y z"));
    }
}
