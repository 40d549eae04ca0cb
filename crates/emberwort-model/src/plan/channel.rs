//! A channel of a plan: what both ends share, and the frames of each.

use std::any::Any;
use std::sync::{Arc, OnceLock};

use crate::ids::MessageId;
use crate::model::{End, Medium};
use crate::plan::{Direction, FrameFinder, Role};

/// A channel, compiled. How its frames look is asked for with the end that sends them.
#[derive(Clone, Debug, PartialEq)]
pub struct Channel {
    /// Its name.
    pub name: String,
    /// Its documentation.
    pub doc: String,
    /// What it runs over.
    pub medium: Medium,
    /// The frames of both ends, or of the device where the host's are different.
    device: Arc<Direction>,
    /// The host's frames where they are different.
    host: Option<Arc<Direction>>,
    caches: [DirectionCache; 2],
}

impl Channel {
    /// A channel whose ends send frames of one kind, or of two if those of the host are given.
    pub(crate) fn new(device: Direction, host: Option<Direction>) -> Self {
        Self {
            name: device.name.clone(),
            doc: device.doc.clone(),
            medium: device.medium.clone(),
            device: Arc::new(device),
            host: host.map(Arc::new),
            caches: Default::default(),
        }
    }

    /// The channel as frames from this end go over it.
    pub fn direction(&self, from: End) -> &Arc<Direction> {
        match (from, &self.host) {
            (End::Host, Some(host)) => host,
            _ => &self.device,
        }
    }

    /// Whether the two ends send frames of different kinds.
    pub fn is_split(&self) -> bool {
        self.host.is_some()
    }

    /// The kinds of frames on this channel, with the end that sends them where that makes a difference.
    pub fn directions(&self) -> impl Iterator<Item = (Option<End>, &Arc<Direction>)> {
        let end = |end: End| self.is_split().then_some(end);
        let host = self.host.as_ref().map(|host| (end(End::Host), host));
        [(end(End::Device), &self.device)].into_iter().chain(host)
    }

    /// Whether frames of either end have a part with this role.
    pub fn has_part(&self, wanted: impl Fn(&Role) -> bool) -> bool {
        self.directions().any(|(_, direction)| direction.part(&wanted).is_some())
    }

    /// How receivers find frames, those of both ends alike.
    pub fn finder(&self) -> FrameFinder {
        self.device.finder
    }

    /// Whether the keys of messages stand outside of the frames, from both ends.
    pub fn key_is_outside(&self) -> bool {
        self.device.key_is_outside()
    }

    /// The message (by index) that a key selects in frames from an end; `None` asks for those of both.
    pub fn message_of(&self, key: u64, from: Option<End>) -> Option<MessageId> {
        let ends = from.map_or([End::Device, End::Host], |end| [end, end]);
        ends.into_iter().find_map(|end| self.direction(end).message_of(key))
    }

    /// Each kind of frames on this channel, to be changed while the plan is made.
    pub(crate) fn directions_mut(&mut self) -> impl Iterator<Item = (Option<End>, &mut Direction)> {
        let is_split = self.is_split();
        let host = self.host.as_mut().map(|host| (Some(End::Host), Arc::make_mut(host)));
        [(is_split.then_some(End::Device), Arc::make_mut(&mut self.device))].into_iter().chain(host)
    }

    /// From now on the two ends send frames of different kinds, which look alike so far.
    pub(crate) fn split(&mut self) {
        self.host.get_or_insert_with(|| self.device.clone());
    }

    /// Whether a message (by index) travels here, from either end.
    pub fn carries(&self, message: MessageId) -> bool {
        self.directions().any(|(_, direction)| direction.carries(message))
    }

    /// What another layer makes of the frames of an end, made when it is first asked for and kept as long as the plan. There is
    /// room for one type: frames ready to be read and written.
    ///
    /// # Panics
    /// If it was asked for with another type before.
    pub fn cached<T: Any + Send + Sync>(&self, from: End, make: impl FnOnce(Arc<Direction>) -> T) -> Arc<T> {
        let direction = self.direction(from);
        let is_host = self.is_split() && from == End::Host;
        let made = self.caches[usize::from(is_host)].0.get_or_init(|| Arc::new(make(direction.clone())));
        made.clone().downcast().expect("one type is made of a direction")
    }
}

/// Room for what another layer makes of a direction. It says nothing of the channel: all are equal, and a copy begins empty.
#[derive(Debug, Default)]
struct DirectionCache(OnceLock<Arc<dyn Any + Send + Sync>>);

impl Clone for DirectionCache {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl PartialEq for DirectionCache {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}
