//! What becomes of messages between two ends of different revisions.

use emberwort_model::model::End;

/// What becomes of a message on its way to an end of another revision, the best first.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Verdict {
    /// All that is meant is understood.
    #[default]
    Fine,
    /// What is understood is right, but it is not all.
    FineWithLoss,
    /// The receiver sees that something is wrong, and does not take it.
    Refused,
    /// It is not taken, and nobody is told.
    SilentDrop,
    /// Something is taken for something else.
    Misread,
}

impl Verdict {
    /// All, the best first.
    pub const ALL: [Verdict; 5] =
        [Verdict::Fine, Verdict::FineWithLoss, Verdict::Refused, Verdict::SilentDrop, Verdict::Misread];

    /// As it is shown.
    pub fn as_str(self) -> &'static str {
        match self {
            Verdict::Fine => "fine",
            Verdict::FineWithLoss => "fine with loss",
            Verdict::Refused => "refused",
            Verdict::SilentDrop => "silent drop",
            Verdict::Misread => "misread",
        }
    }

    /// Whether units in the field would stand alone with it.
    pub fn strands(self) -> bool {
        self > Verdict::FineWithLoss
    }
}

/// A sender and a receiver, one of which has the old revision and one the new.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Pair {
    /// What an old device sends to a new host.
    OldDeviceNewHost,
    /// What a new device sends to an old host.
    NewDeviceOldHost,
    /// What an old host sends to a new device.
    OldHostNewDevice,
    /// What a new host sends to an old device.
    NewHostOldDevice,
}

impl Pair {
    /// All four, in the order in which they are shown.
    pub const ALL: [Pair; 4] =
        [Pair::OldDeviceNewHost, Pair::NewDeviceOldHost, Pair::OldHostNewDevice, Pair::NewHostOldDevice];

    /// As it is shown.
    pub fn as_str(self) -> &'static str {
        match self {
            Pair::OldDeviceNewHost => "old device → new host",
            Pair::NewDeviceOldHost => "new device → old host",
            Pair::OldHostNewDevice => "old host → new device",
            Pair::NewHostOldDevice => "new host → old device",
        }
    }

    /// As it is named for machines.
    pub fn key(self) -> &'static str {
        match self {
            Pair::OldDeviceNewHost => "old_device_new_host",
            Pair::NewDeviceOldHost => "new_device_old_host",
            Pair::OldHostNewDevice => "old_host_new_device",
            Pair::NewHostOldDevice => "new_host_old_device",
        }
    }

    /// The end that sends.
    pub fn from(self) -> End {
        match self {
            Pair::OldDeviceNewHost | Pair::NewDeviceOldHost => End::Device,
            Pair::OldHostNewDevice | Pair::NewHostOldDevice => End::Host,
        }
    }

    /// Whether the sender has the old revision.
    pub fn sender_is_old(self) -> bool {
        matches!(self, Pair::OldDeviceNewHost | Pair::OldHostNewDevice)
    }
}
