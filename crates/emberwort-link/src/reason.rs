//! Why something that must hold in a trial did not.

use emberwort_model::ids::MessageId;

/// Why something that must hold did not. A shorter trial fails in the same way only if it fails for the same reason.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reason {
    /// Nothing was sent of what is looked at.
    NoneSent,
    /// Nothing was received of what is looked at.
    NoneReceived,
    /// Fewer frames were sent than must be received.
    TooFewSent,
    /// Enough frames were sent, and too many of them were lost.
    Lost,
    /// Requests were never answered.
    Unanswered,
    /// All requests were answered, some too late.
    Late,
    /// More came than may.
    TooMany,
    /// A receiver took too long to get over what was broken.
    SlowRecovery,
    /// The wire was busy for too long.
    Busy,
    /// A good frame had other values than were sent.
    WrongValue,
    /// Messages came, with values that must not be, or without the one that must be.
    Value,
    /// A step of a script waited for a message in vain: which one, and which one came in its place, by index.
    Missed {
        /// What was waited for.
        awaited: MessageId,
        /// What came instead, last.
        instead: Option<MessageId>,
    },
    /// A message came, by index, which a step of a script forbids.
    Forbidden(MessageId),
    /// A script was not over at the end of the trial.
    Unfinished,
}
