//! The file of events that wait for the database: what happened while it is away also outlives a crash of the service.
//!
//! A line of JSON for each event, added at the end; a part of a line there is left of a crash, and is passed over. The file is removed
//! when the database has all of them.

use std::fs::OpenOptions;
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

use crate::StoredEvent;
use crate::files::write_whole;

/// The file, and what of the queue is in it.
#[derive(Debug)]
pub(crate) struct WaitingEvents {
    path: PathBuf,
    /// The number of the last event in it; 0 when there is none.
    last: u64,
    lines: usize,
}

impl WaitingEvents {
    /// Opens the file, with the events that are in it.
    ///
    /// # Errors
    /// When it is there and can't be read.
    pub(crate) fn open(path: PathBuf) -> io::Result<(Self, Vec<StoredEvent>)> {
        let text = match std::fs::read(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => Vec::new(),
            Err(error) => return Err(error),
        };
        let lines = || text.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
        let events: Vec<StoredEvent> = lines().filter_map(|line| serde_json::from_slice(line).ok()).collect();
        let last = events.last().map_or(0, |event| event.id);
        Ok((Self { path, last, lines: lines().count() }, events))
    }

    /// Adds those that are not in it yet. When it has grown far beyond what waits, it is written anew.
    ///
    /// # Errors
    /// When the disk takes no more; what is in the file stays.
    pub(crate) fn keep(&mut self, waiting: &[StoredEvent]) -> io::Result<()> {
        let begun = waiting.partition_point(|event| event.id <= self.last);
        let Some(last) = waiting[begun..].last() else { return Ok(()) };
        let lines = |events: &[StoredEvent]| {
            let mut text = Vec::new();
            for event in events {
                serde_json::to_writer(&mut text, event).expect("an event is JSON");
                text.push(b'\n');
            }
            text
        };
        if self.lines > 2 * waiting.len() + 1_000 {
            write_whole(&self.path, &lines(waiting))?;
            self.lines = waiting.len();
        } else {
            let mut file = OpenOptions::new().append(true).create(true).mode(0o600).open(&self.path)?;
            // Behind a part of a line there is a new one.
            let mut text = if self.lines == 0 { Vec::new() } else { vec![b'\n'] };
            text.extend(lines(&waiting[begun..]));
            file.write_all(&text)?;
            self.lines += waiting.len() - begun;
        }
        self.last = last.id;
        Ok(())
    }

    /// Removes the file, when there is one.
    ///
    /// # Errors
    /// When it can't be removed: the events are recorded once all the same.
    pub(crate) fn clear(&mut self) -> io::Result<()> {
        if self.lines > 0 {
            std::fs::remove_file(&self.path)?;
            (self.lines, self.last) = (0, 0);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use merismos_core::time::Wall;

    use super::*;

    fn event(id: u64) -> StoredEvent {
        let (kind, subject) = ("duty".to_owned(), "quay/gull".to_owned());
        let message = format!("the {id}th\nof them");
        StoredEvent {
            id,
            node: "north".to_owned(),
            at: Wall(5),
            kind,
            subject,
            message,
            detail: serde_json::json!({ "id": id }),
        }
    }

    fn numbers(events: &[StoredEvent]) -> Vec<u64> {
        events.iter().map(|event| event.id).collect()
    }

    #[test]
    fn what_waits_is_read_again_until_it_is_cleared() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("waiting-events");
        let (mut file, found) = WaitingEvents::open(path.clone()).unwrap();
        assert!(found.is_empty());
        file.keep(&[event(1), event(2)]).unwrap();
        // The first was written to the database meanwhile; the second is in the file already.
        file.keep(&[event(2), event(3)]).unwrap();
        // A crash in the middle of a line.
        let mut text = std::fs::read(&path).unwrap();
        text.extend(&serde_json::to_vec(&event(4)).unwrap()[..20]);
        std::fs::write(&path, text).unwrap();
        let (mut file, found) = WaitingEvents::open(path.clone()).unwrap();
        assert_eq!(found, [event(1), event(2), event(3)]);
        file.keep(&[event(1), event(2), event(3), event(5)]).unwrap();
        let (mut file, found) = WaitingEvents::open(path.clone()).unwrap();
        assert_eq!(numbers(&found), [1, 2, 3, 5]);
        file.clear().unwrap();
        file.clear().unwrap();
        assert!(!path.exists());
    }

    #[test]
    fn it_does_not_grow_without_end() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("waiting-events");
        let (mut file, _) = WaitingEvents::open(path.clone()).unwrap();
        for id in 1..5_000 {
            file.keep(&[event(id), event(id + 1)]).unwrap();
        }
        let (_, found) = WaitingEvents::open(path).unwrap();
        assert!(found.len() < 1_100, "{}", found.len());
        assert_eq!(numbers(&found[found.len() - 2..]), [4_999, 5_000]);
    }
}
