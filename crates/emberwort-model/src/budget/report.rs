//! The budget of a whole link: a table for each channel, and what all its messages together take.

use num_rational::Ratio;

use super::wire_time::Seconds;
use super::{BodyBudget, MessageOnChannel, body, energy, message_on, time_text};
use crate::ids::{ChannelId, MessageId};
use crate::model::{End, Medium};
use crate::plan::Plan;

/// What a message costs on a channel.
#[derive(Clone, Debug, PartialEq)]
pub struct MessageRow {
    /// Index of the message.
    pub message: MessageId,
    /// Its body.
    pub body: BodyBudget,
    /// Its frames.
    pub frame: MessageOnChannel,
    /// Its period in nanoseconds.
    pub every: Option<u64>,
    /// The share of the channel's time that it takes, from all devices if they send it; `None` without a period.
    pub share: Option<Seconds>,
    /// Millijoules for the longest frame, if the medium says its current.
    pub energy: Option<Seconds>,
}

/// What all messages cost on a channel.
#[derive(Clone, Debug, PartialEq)]
pub struct ChannelReport {
    /// Index of the channel.
    pub channel: ChannelId,
    /// The messages, in order of declaration.
    pub rows: Vec<MessageRow>,
    /// The share of the time that the regular messages of all devices and of the host take.
    pub share: Seconds,
    /// The share of the time that one device sends its regular messages.
    pub device_share: Seconds,
    /// How long it takes until everybody is through when all speak at once: each device with all its regular messages, or its
    /// longest one if it has none, and the host likewise.
    pub all_at_once: Seconds,
    /// The greatest share that a device may send, if the medium says it.
    pub duty: Option<Seconds>,
    /// How many of its longest message a device may send a day within that share.
    pub a_day: Option<u64>,
}

/// The budget of every channel with so many devices.
pub fn report(plan: &Plan, devices: u64) -> Vec<ChannelReport> {
    plan.channel_ids().map(|(channel, _)| channel_report(plan, channel, devices)).collect()
}

fn channel_report(plan: &Plan, index: ChannelId, devices: u64) -> ChannelReport {
    let channel = &plan.channels[index];
    let zero = Ratio::from_integer(0);
    let devices = Ratio::from_integer(i128::from(devices));
    let mut rows = Vec::new();
    let (mut share, mut device_share) = (zero, zero);
    // Regular and longest times of a device, and of the host.
    let mut regular = [zero; 2];
    let mut longest = [zero; 2];
    for (message, compiled) in plan.message_ids() {
        if !channel.carries(message) {
            continue;
        }
        let meaning = &compiled.message;
        let frame = message_on(channel, compiled, index);
        let time = frame.greatest.time;
        let side = usize::from(meaning.from == End::Host);
        longest[side] = longest[side].max(time);
        let own = meaning.every.map(|every| {
            regular[side] += time;
            time * Ratio::new(1_000_000_000, i128::from(every))
        });
        if let (Some(own), End::Device) = (own, meaning.from) {
            device_share += own;
        }
        let of_all = own.map(|own| if meaning.from == End::Device { own * devices } else { own });
        share += of_all.unwrap_or(zero);
        rows.push(MessageRow {
            message,
            body: body(compiled),
            every: meaning.every,
            share: of_all,
            energy: energy(&channel.medium, time),
            frame,
        });
    }
    let at_once = |side: usize| if regular[side] > zero { regular[side] } else { longest[side] };
    let duty = channel.medium.kind.duty();
    let a_day = duty.filter(|_| longest[0] > zero).map(|duty| {
        let count = duty * Ratio::from_integer(86_400) / longest[0];
        u64::try_from(count.to_integer()).unwrap_or(0)
    });
    ChannelReport {
        channel: index,
        rows,
        share,
        device_share,
        all_at_once: at_once(0) * devices + at_once(1),
        duty,
        a_day,
    }
}

/// A medium in words, as the definition has it, and what its speed means.
pub fn medium_text(medium: &Medium) -> String {
    let mut text = medium.kind.text();
    if let Some(radio) = medium.kind.radio() {
        let slow = if radio.is_slow() { ", low data rate optimisation on" } else { "" };
        text.push_str(&format!(": a symbol takes {}{slow}", time_text(radio.quarters_to_seconds(4))));
    }
    match medium.kind.network_bytes() {
        0 => {}
        bytes => text.push_str(&format!(", {bytes} bytes of network headers in each packet")),
    }
    if let Some((current, voltage)) = medium.sending {
        text.push_str(&format!("; sends with {current} mA at {voltage} V"));
    }
    text
}
