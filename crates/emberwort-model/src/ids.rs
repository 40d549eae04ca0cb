//! Indices that say what they are indices of, so that one cannot stand where another is meant.

/// Makes the type of an index.
#[macro_export]
macro_rules! index_type {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(usize);

        impl $name {
            /// The one at this place, counted from 0.
            pub const fn new(index: usize) -> Self {
                Self(index)
            }

            /// Its place, counted from 0.
            pub const fn index(self) -> usize {
                self.0
            }
        }
    };
}

index_type!(
    /// A channel of a link, in the order of declaration.
    ChannelId
);
index_type!(
    /// A message of a link, in the order of declaration.
    MessageId
);
