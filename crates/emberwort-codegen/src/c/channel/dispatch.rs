//! Giving each received message to the function that handles it.

use std::collections::BTreeMap;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;

use super::Channel;
use crate::Parts;
use crate::code::Code;
use crate::names::snake;

impl Channel<'_> {
    /// A struct of functions, one for each message that this end receives, and a function that decodes a frame and calls the right one. It is
    /// `static inline`, so that it takes no room where nobody calls it.
    pub(super) fn dispatch(&self, plan: &Plan, parts: &Parts, header: &mut Code) {
        let Self { stem, link, link_upper, plan: direction, .. } = self;
        let is_received = |message: MessageId| parts.receives_message(&plan.messages[message].message);
        let keys: Vec<(u64, MessageId)> =
            direction.keys.iter().copied().filter(|(_, message)| is_received(*message)).collect();
        if direction.finder.is_text() || keys.is_empty() || parts.views_only {
            return;
        }
        let mut of_message: BTreeMap<MessageId, Vec<u64>> = BTreeMap::new();
        keys.iter().for_each(|(key, message)| of_message.entry(*message).or_default().push(*key));
        let name_of = |message: &MessageId| snake(&plan.messages[*message].message.name);
        header.line("/* What is done with each message; NULL for nothing. `context` is handed on. */");
        header.open(format!("typedef struct {stem}_handlers_t {{"));
        for name in of_message.keys().map(name_of) {
            header.line(format!(
                "void (*on_{name})(void *context, const {stem}_frame_t *frame, const {link}_{name}_t *message);"
            ));
        }
        header.line("/* A frame of no message here, or whose body cannot be read: the result says why. */");
        header
            .line(format!("void (*unread)(void *context, const {stem}_frame_t *frame, {link}_codec_result_t result);"));
        header.close(format!("}} {stem}_handlers_t;"));
        header.line("");
        header.line(
            "/* Decodes the body of a frame that a receiver gave out, and calls the function for its message. */",
        );
        header.open(format!(
            "static inline void {stem}_dispatch(const {stem}_handlers_t *handlers, void *context, const {stem}_frame_t *frame)"
        ));
        header.close("{");
        header.open(format!("    {link}_codec_result_t result = {link_upper}_UNKNOWN_MESSAGE;"));
        let one = |name: &str, header: &mut Code| {
            header.lines(&format!(
                "{{\n    {link}_{name}_t message;\n    result = {link}_{name}_decode(&message, frame->body, frame->size);\n    \
                     if (result == {link_upper}_OK && handlers->on_{name} != NULL) {{\n        handlers->on_{name}(context, frame, &message);\n    }}\n}}"
            ));
        };
        match (self.selected(), of_message.keys().next()) {
            (Some((value, bits)), _) => {
                header.line(format!("switch ({value}) {{"));
                for (message, keys) in &of_message {
                    for key in keys {
                        header.line(format!("case {}:", self.key(plan, *key, *message, bits)));
                    }
                    one(&name_of(message), header);
                    header.line("break;");
                }
                header.lines("default:\n    break;\n}");
            }
            (None, Some(only)) => one(&name_of(only), header),
            (None, None) => {}
        }
        header.lines(&format!(
            "if (result != {link_upper}_OK && handlers->unread != NULL) {{\n    handlers->unread(context, frame, result);\n}}"
        ));
        header.close("}");
        header.line("");
    }
}
