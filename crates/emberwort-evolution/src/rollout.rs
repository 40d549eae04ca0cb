//! In which order devices and hosts can be updated.

use crate::comparison::Comparison;
use crate::verdict::{Pair, Verdict};

/// The order in which the new revision can come into the field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// Either end first.
    Either,
    /// The host, then the devices.
    HostFirst,
    /// The devices, then the host.
    DevicesFirst,
    /// Both at once: old and new ones never talk with each other.
    AtOnce,
    /// Not while there are devices that cannot be updated.
    Never,
}

impl Order {
    /// The order that verdicts allow.
    pub fn of(comparison: &Comparison) -> Self {
        Self::from_worst(|pair| comparison.worst(pair))
    }

    /// The order that several comparisons with the same new revision allow together.
    pub fn of_all<'a>(comparisons: impl IntoIterator<Item = &'a Comparison> + Clone) -> Self {
        Self::from_worst(|pair| comparisons.clone().into_iter().map(|one| one.worst(pair)).max().unwrap_or_default())
    }

    fn from_worst(worst: impl Fn(Pair) -> Verdict) -> Self {
        let good = |pairs: [Pair; 2]| pairs.into_iter().all(|pair| !worst(pair).strands());
        // While the host alone is new, it talks with old devices, and they with it.
        let host_first = good([Pair::OldDeviceNewHost, Pair::NewHostOldDevice]);
        let devices_first = good([Pair::NewDeviceOldHost, Pair::OldHostNewDevice]);
        match (host_first, devices_first) {
            (true, true) => Order::Either,
            (true, false) => Order::HostFirst,
            (false, true) => Order::DevicesFirst,
            (false, false) => Order::AtOnce,
        }
    }

    /// As it is shown.
    pub fn as_str(self) -> &'static str {
        match self {
            Order::Either => "either end first",
            Order::HostFirst => "host first",
            Order::DevicesFirst => "devices first",
            Order::AtOnce => "both at once",
            Order::Never => "never",
        }
    }

    /// The pairs of ends that talk with each other on the way; none if all are updated at once.
    pub fn on_the_way(self) -> &'static [Pair] {
        match self {
            Order::Either | Order::HostFirst => &[Pair::OldDeviceNewHost, Pair::NewHostOldDevice],
            Order::DevicesFirst => &[Pair::NewDeviceOldHost, Pair::OldHostNewDevice],
            Order::AtOnce | Order::Never => &[],
        }
    }
}
