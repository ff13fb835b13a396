//! Buffers of one raster, handed back by those who write them to those who fill them: memory fresh from the system
//! costs more than filling it.

use std::sync::{Arc, Mutex, PoisonError};

use telechroma_core::tile::Cells;

/// Buffers waiting for their next use, shared by both halves of the sink. They hold whatever was last in them.
#[derive(Clone, Default)]
pub(super) struct Spare {
    bytes: Arc<Mutex<Vec<Vec<u8>>>>,
    halves: Arc<Mutex<Vec<Cells>>>,
}

fn take<T>(from: &Mutex<Vec<T>>) -> Option<T> {
    from.lock().unwrap_or_else(PoisonError::into_inner).pop() // a panic elsewhere leaves only buffers behind
}

fn give<T>(to: &Mutex<Vec<T>>, buffer: T) {
    to.lock().unwrap_or_else(PoisonError::into_inner).push(buffer);
}

impl Spare {
    /// Bytes, none in them.
    pub(super) fn bytes(&self) -> Vec<u8> {
        let mut bytes = take(&self.bytes).unwrap_or_default();
        bytes.clear();
        bytes
    }

    pub(super) fn give_bytes(&self, bytes: Vec<u8>) {
        give(&self.bytes, bytes);
    }

    /// A halved block of values, if one waits.
    pub(super) fn half(&self) -> Option<Cells> {
        take(&self.halves)
    }

    pub(super) fn give_half(&self, half: Cells) {
        give(&self.halves, half);
    }
}
