//! The program; everything is in its library.

fn main() -> std::process::ExitCode {
    hollow_mile::run()
}
