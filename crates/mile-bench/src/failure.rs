//! Why something that was asked for was not done.

/// Why a command ended other than well, and with which exit code.
#[derive(Debug)]
pub struct Failure {
    pub(crate) code: u8,
    pub(crate) message: String,
}

impl Failure {
    /// The arguments, or what they name, cannot be used: exit code 2.
    pub fn usage(message: impl Into<String>) -> Self {
        Self { code: 2, message: message.into() }
    }

    /// The run did not end as planned: exit code 1.
    pub fn run(message: impl Into<String>) -> Self {
        Self { code: 1, message: message.into() }
    }

    /// The exit code, 1 or 2.
    pub fn code(&self) -> u8 {
        self.code
    }

    /// What to tell.
    pub fn message(&self) -> &str {
        &self.message
    }
}

impl<E: std::error::Error> From<E> for Failure {
    fn from(error: E) -> Self {
        Self::usage(error.to_string())
    }
}
