//! What a course calls by name: its lanes, and the channels of instruments.

use super::reader::{Read, Reader};
use crate::course::ends::Threshold;
use crate::diagnostic::{Diagnostic, Span, closest};
use crate::token::Kind;

/// What a guard goes by; any other name is that of a channel.
pub(super) const GUARDED: [&str; 7] =
    ["temperature", "errors", "operation", "critical", "written", "time", "others"];

impl Reader {
    /// `on upper and lower` behind the name of a leg; without, all lanes that are not only watched.
    pub(super) fn lanes_of_leg(&mut self) -> Read<Vec<usize>> {
        if !self.take_word("on") {
            let loaded = self.lanes.iter().enumerate().filter(|(_, l)| !l.watched).map(|(i, _)| i);
            let all: Vec<usize> = loaded.collect();
            return Ok(if self.lanes.is_empty() { vec![0] } else { all });
        }
        let mut on = Vec::new();
        loop {
            let span = self.here();
            let lane = self.lane_named()?;
            if on.contains(&lane) {
                let name = &self.lanes[lane].name;
                return self.fail(Diagnostic::new(span, format!("the lane `{name}` is named twice")));
            }
            on.push(lane);
            if !self.take_word("and") {
                return Ok(on);
            }
        }
    }

    /// The name of a lane that may get a load.
    pub(crate) fn lane_named(&mut self) -> Read<usize> {
        let span = self.here();
        let name = self.name("the name of a lane")?;
        match self.lanes.iter().position(|l| l.name == name) {
            Some(i) if self.lanes[i].watched => self.fail(
                Diagnostic::new(span, format!("the lane `{name}` is only watched"))
                    .hint("take out `watched` where it is named, or leave it out here"),
            ),
            Some(i) => Ok(i),
            None => {
                let known: Vec<&str> = self.lanes.iter().map(|l| l.name.as_str()).collect();
                let diagnostic = Diagnostic::new(span, format!("there is no lane `{name}`"));
                let meant = closest(&name, &known).map(|m| format!("did you mean `{m}`?"));
                let hint = meant.unwrap_or_else(|| "name it before the first leg: `lane NAME`".into());
                self.fail(diagnostic.hint(hint))
            }
        }
    }

    /// Whether a channel stands here: a name that is none of the language's own, and behind it a side.
    pub(super) fn at_channel(&self) -> bool {
        let named = match self.peek() {
            Some(Kind::Text(_)) => true,
            Some(Kind::Word(w)) => !GUARDED.iter().any(|o| w.eq_ignore_ascii_case(o)),
            _ => false,
        };
        named && (self.is_word(1, "above") || self.is_word(1, "below"))
    }

    /// `probe below 30 °C`, `"supply 12 V" above 9.5 W`
    pub(super) fn threshold(&mut self) -> Read<Threshold> {
        let channel = self.name("the name of a channel, such as `probe`")?;
        let above = self.one_of(&["above", "below"])? == 0;
        let negative = self.take_stray('-');
        let value = self.number("a value, such as `30 °C`")?;
        let unit = match self.peek() {
            Some(Kind::Percent) => "%".to_owned(),
            Some(Kind::Word(w))
                if !["for", "or", "until", "at"].iter().any(|k| w.eq_ignore_ascii_case(k)) =>
            {
                if w.eq_ignore_ascii_case("c") { "°C".to_owned() } else { w.to_string() }
            }
            _ => String::new(),
        };
        self.at += usize::from(!unit.is_empty());
        Ok(Threshold { channel, unit, above, value: if negative { -value } else { value } })
    }

    fn take_stray(&mut self, wanted: char) -> bool {
        let found = matches!(self.peek(), Some(Kind::Stray(c)) if *c == wanted);
        self.at += usize::from(found);
        found
    }

    /// A count of errors.
    pub(super) fn whole(&mut self, span: Span, count: f64) -> Read<u64> {
        if count.fract() != 0.0 || !(0.0..=1e9).contains(&count) {
            return self
                .fail(Diagnostic::new(span, format!("errors are counted in whole numbers, found {count}")));
        }
        Ok(count as u64)
    }
}
