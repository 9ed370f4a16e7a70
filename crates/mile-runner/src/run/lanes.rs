//! Several drives in one run: each lane on a thread of its own, all of them told in one order.

use super::copying;
use super::lane::{begin, lane};
use super::meeting::Meeting;
use super::state::{LaneEnd, LaneRun};
use crate::message::{Command, Message, Outcome, RunHead, Status};
use crossbeam_channel::{Receiver, Sender, bounded, select, unbounded};
use mile_core::{Bytes, Nanos, Trace};
use std::sync::Mutex;

/// Messages that may wait to be told. A simulated lane waits for whoever listens.
const QUEUE: usize = 4096;

/// Runs a course on its drives at the same time, and tells all of it, each message with the number of its lane: `Began` once, for the
/// first, and `Ended` for each. A lane that fails, or that a guard stops, ends the others too, unless they run `apart`. Gives how each ended.
///
/// The drives are all simulated or all real; simulated ones that stand beside each other warm each other.
pub fn execute_lanes(
    mut lanes: Vec<LaneRun<'_>>,
    mut head: RunHead,
    apart: bool,
    commands: &Receiver<Command>,
    tell: &mut dyn FnMut(u32, Message),
) -> Vec<LaneEnd> {
    for (i, lane) in lanes.iter_mut().enumerate() {
        begin(&mut head, i, lane.drive, lane.terms.go_on.is_some());
    }
    tell(0, Message::Began(Box::new(head.clone())));
    if lanes.len() == 1
        && let Some(LaneRun { plan, drive, terms }) = lanes.pop()
    {
        return vec![lane(plan, &head, 0, drive, terms, None, commands, &mut |m| tell(0, m))];
    }
    // What goes on, goes on at one time.
    let at = lanes.iter().filter_map(|l| l.terms.go_on.as_ref()).map(|g| g.at).max();
    for on in lanes.iter_mut().filter_map(|l| l.terms.go_on.as_mut()) {
        on.at = at.unwrap_or(on.at);
    }
    let copies = copying::copies(&mut lanes);
    let stages: Vec<usize> =
        lanes.iter().map(|l| l.terms.go_on.as_ref().map_or(0, |g| g.leg as usize)).collect();
    let meeting = Meeting::new(&stages, lanes.iter().all(|l| l.drive.is_virtual()), copies);
    let (send, told) = bounded::<(u32, Message)>(QUEUE);
    let ends: Mutex<Vec<Option<LaneEnd>>> = Mutex::new(lanes.iter().map(|_| None).collect());
    std::thread::scope(|scope| {
        let mut orders: Vec<Sender<Command>> = Vec::new();
        for (i, LaneRun { plan, drive, terms }) in lanes.into_iter().enumerate() {
            let (order, obeyed) = unbounded();
            orders.push(order);
            let (send, head, meeting, ends) = (send.clone(), &head, &meeting, &ends);
            scope.spawn(move || {
                let mut tell = |message: Message| {
                    // Who listens lives as long as this thread.
                    let _ = send.send((i as u32, message));
                };
                let end = lane(plan, head, i, drive, terms, Some(meeting), &obeyed, &mut tell);
                let outcome = &end.outcome;
                let bad = outcome.status != Status::Done && !apart;
                let why = bad.then(|| {
                    let why = outcome.why.as_ref().map_or(String::new(), |w| format!(": {w}"));
                    format!("lane {} has ended{why}", head.lane(i).name)
                });
                meeting.leave(i, outcome.at, why);
                if let Some(place) = ends.lock().ok().as_mut().and_then(|e| e.get_mut(i)) {
                    *place = Some(end);
                }
            });
        }
        drop(send);
        loop {
            select! {
                recv(told) -> message => match message {
                    Ok((lane, message)) => tell(lane, message),
                    // All lanes have ended.
                    Err(_) => break,
                },
                recv(commands) -> command => match command {
                    // One note is enough.
                    Ok(note @ Command::Note(_)) => drop(orders.first().map(|o| o.send(note))),
                    Ok(command) => orders.iter().for_each(|o| drop(o.send(command.clone()))),
                    Err(_) => {
                        for (lane, message) in &told {
                            tell(lane, message);
                        }
                        break;
                    }
                },
            }
        }
    });
    let lost = || Outcome {
        status: Status::Failed,
        at: Nanos(0),
        bytes: Bytes(0),
        why: Some("its thread ended unexpectedly".into()),
        health: None,
        digest: None,
    };
    let or_lost = |end: Option<LaneEnd>| {
        end.unwrap_or_else(|| LaneEnd { outcome: lost(), trace: Trace::new(), findings: None })
    };
    ends.into_inner().unwrap_or_default().into_iter().map(or_lost).collect()
}
