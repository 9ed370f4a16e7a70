//! Takes the terminal over, and gives it back in whatever way the program ends.

use crossterm::event::{DisableMouseCapture, EnableMouseCapture};
use crossterm::execute;
use ratatui::DefaultTerminal;
use std::io;

/// The terminal while it is ours. Dropping it gives it back.
pub(super) struct Taken {
    pub(super) terminal: DefaultTerminal,
}

impl Taken {
    /// Takes the terminal over. A panic anywhere gives it back before its message is printed.
    pub(super) fn take() -> io::Result<Self> {
        let terminal = ratatui::try_init()?;
        let hook = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            let _ = execute!(io::stdout(), DisableMouseCapture);
            hook(info);
        }));
        execute!(io::stdout(), EnableMouseCapture)?;
        Ok(Self { terminal })
    }
}

impl Drop for Taken {
    fn drop(&mut self) {
        let _ = execute!(io::stdout(), DisableMouseCapture);
        ratatui::restore();
    }
}
