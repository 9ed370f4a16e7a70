//! Takes the terminal over, and gives it back in whatever way the program ends.

use crossterm::cursor::Show;
use crossterm::event::{
    DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture,
};
use crossterm::execute;
use ratatui::DefaultTerminal;
use std::io;
use std::mem::ManuallyDrop;

/// The terminal while it is ours. Dropping it gives it back.
pub(super) struct Taken {
    /// Never dropped: it would print a message where its terminal has hung up, and end the program by that.
    pub(super) terminal: ManuallyDrop<DefaultTerminal>,
}

impl Taken {
    /// Takes the terminal over. A panic anywhere gives it back before its message is printed.
    pub(super) fn take() -> io::Result<Self> {
        let terminal = ratatui::try_init()?;
        let hook = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            let _ = execute!(io::stdout(), DisableBracketedPaste, DisableMouseCapture);
            hook(info);
        }));
        crate::pass_over_contained_panics();
        execute!(io::stdout(), EnableMouseCapture, EnableBracketedPaste)?;
        Ok(Self { terminal: ManuallyDrop::new(terminal) })
    }
}

/// Most bytes that are put on a clipboard: some terminals take no more of it, and drop what is longer as a whole.
const MOST_COPIED: usize = 48 << 10;

impl Taken {
    /// Puts text on the clipboard of the terminal (the control sequence OSC 52). Terminals that do not allow it pass over it.
    pub(super) fn copy(&mut self, text: &str) -> io::Result<()> {
        let mut end = text.len().min(MOST_COPIED);
        while !text.is_char_boundary(end) {
            end -= 1;
        }
        execute!(io::stdout(), crossterm::clipboard::CopyToClipboard::to_clipboard_from(&text[..end]))
    }

    /// Gives the terminal back, has the shell take over until it brings this program to the front again, and takes the terminal once more.
    pub(super) fn suspend(&mut self) -> io::Result<()> {
        execute!(io::stdout(), DisableBracketedPaste, DisableMouseCapture, Show)?;
        ratatui::try_restore()?;
        // Comes back when the process is continued.
        signal_hook::low_level::raise(signal_hook::consts::SIGSTOP)?;
        self.terminal = ManuallyDrop::new(ratatui::try_init()?);
        crate::pass_over_contained_panics();
        // A screen of its own, which is empty, as this terminal takes it to be.
        execute!(io::stdout(), EnableMouseCapture, EnableBracketedPaste)
    }
}

impl Drop for Taken {
    fn drop(&mut self) {
        let _ = execute!(io::stdout(), DisableBracketedPaste, DisableMouseCapture, Show);
        // A terminal that has hung up takes nothing back, and no message about that either.
        let _ = ratatui::try_restore();
    }
}
