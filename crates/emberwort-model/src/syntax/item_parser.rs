//! Items: `link`, `import`, `enum` and `flags`, `record`, `table`, `message`, and the statements in them.

use super::ast::{
    ByteOrder, ChannelItem, End, EntryItem, File, ImportItem, KeyItem, KeyKind, LabelItem, LabelledItem, LinkItem,
    MessageItem, NodeRange, OnItem, RecordItem, SectionItem, TableItem,
};
use super::lexer::TokenKind;
use super::parser::{Parser, unquoted};
use crate::diagnostics::{Code, Finding};
use crate::source::Span;

const ITEM_WORDS: &[&str] = &["link", "enum", "flags", "record", "table", "message", "channel", "import"];
const MESSAGE_WORDS: &[&str] = &["id", "from", "on", "answered", "line", "added", "spare"];
const ENTRY_WORDS: &[&str] = &["read", "write", "kept"];

/// The greatest number of a node that is added to a key.
const MAX_NODE: i128 = 0xFFFF_FFFF;
/// Most nodes that a key can be for: each has an entry in the tables of receivers.
const MAX_NODES: i128 = 4096;

impl Parser<'_> {
    pub(super) fn file(&mut self) -> File {
        let mut file = File::default();
        loop {
            self.skip_to_statement();
            if self.peek().kind == TokenKind::End {
                return file;
            }
            let before = self.at;
            self.damaged = false;
            self.begin_statement();
            if self.item(&mut file).is_none() {
                self.skip_statement();
                if self.at == before || self.is_punct('}') {
                    self.at += usize::from(self.peek().kind != TokenKind::End);
                }
            }
        }
    }

    fn item(&mut self, file: &mut File) -> Option<()> {
        let word = if self.peek().kind == TokenKind::Word { self.text_of(self.peek()) } else { "" };
        match word {
            "link" => file.links.push(self.link()?),
            "import" => file.imports.push(self.import()?),
            "enum" | "flags" => file.labelled.push(self.labelled()?),
            "record" => file.records.push(self.record()?),
            "table" => file.tables.push(self.table()?),
            "message" => file.messages.push(self.message()?),
            "channel" => file.channels.push(self.channel()?),
            _ => return self.unknown_word("at the start of an item", ITEM_WORDS),
        }
        Some(())
    }

    fn import(&mut self) -> Option<ImportItem> {
        self.next();
        let token = self.peek();
        if token.kind != TokenKind::Text {
            return self.unexpected("a file name in quotes", "write `import \"pump.ember\"`");
        }
        self.next();
        Some(ImportItem { path: unquoted(self.text_of(token)), span: token.span })
    }

    fn link(&mut self) -> Option<LinkItem> {
        let doc = self.take_doc();
        self.next();
        let name = self.name("the link's name")?;
        let mut item = LinkItem { doc, name, revision: None, byte_order: None, damaged: false };
        self.block(|p| {
            let span = p.peek().span;
            if p.eat_word("revision") {
                let number = p.number("a revision number")?;
                p.once(&mut item.revision, number, "revision", span);
            } else if p.eat_word("byte_order") {
                let token = p.peek();
                let order = match p.text_of(token) {
                    "little" => ByteOrder::Little,
                    "big" => ByteOrder::Big,
                    _ => return p.unknown_word("as a byte order", &["little", "big"]),
                };
                p.next();
                p.once(&mut item.byte_order, (order, token.span), "byte_order", span);
            } else {
                return p.unknown_word("in a link", &["revision", "byte_order"]);
            }
            Some(())
        })?;
        item.damaged = self.damaged;
        Some(item)
    }

    fn labelled(&mut self) -> Option<LabelledItem> {
        let doc = self.take_doc();
        let keyword = self.next();
        let flags = self.text_of(keyword) == "flags";
        let name = self.name("a name")?;
        self.expect_punct(':', "the width follows the name: `enum GateState : u3 { … }`")?;
        let bits = self.unsigned_type()?;
        let mut item = LabelledItem { doc, flags, name, bits, labels: Vec::new(), damaged: false };
        self.block(|p| {
            let mut doc = p.take_doc();
            let code = p.number(if flags { "a bit number" } else { "a code" })?;
            let name = p.name("a label")?;
            let token = p.peek();
            if token.kind == TokenKind::Text {
                p.next();
                doc = unquoted(p.text_of(token));
            }
            item.labels.push(LabelItem { code, name, text: doc });
            Some(())
        })?;
        item.damaged = self.damaged;
        Some(item)
    }

    fn record(&mut self) -> Option<RecordItem> {
        let doc = self.take_doc();
        self.next();
        let name = self.name("the record's name")?;
        let extensible = self.eat_word("growing");
        let mut item = RecordItem { doc, name, extensible, sections: vec![SectionItem::default()], damaged: false };
        self.block(|p| p.section_statement(&mut item.sections))?;
        item.damaged = self.damaged;
        Some(item)
    }

    fn table(&mut self) -> Option<TableItem> {
        let doc = self.take_doc();
        self.next();
        let name = self.name("the table's name")?;
        self.expect_punct(':', "the width of the keys follows the name: `table Settings : u16 { … }`")?;
        let bits = self.unsigned_type()?;
        let mut item = TableItem { doc, name, bits, entries: Vec::new(), damaged: false };
        self.block(|p| {
            let doc = p.take_doc();
            let key = p.number("the entry's number")?;
            let name = p.name("the entry's name")?;
            p.expect_punct(':', "an entry is written `0x0102 ramp_time : 0 .. 45 s step 0.25  read write`")?;
            let mut field = p.typed(Some(name))?;
            field.doc = doc;
            let mut entry = EntryItem { key, field, read: false, write: false, kept: false };
            while !p.at_line_end() && p.peek().kind != TokenKind::Number {
                if p.eat_word("read") {
                    entry.read = true;
                } else if p.eat_word("write") {
                    entry.write = true;
                } else if p.eat_word("kept") {
                    entry.kept = true;
                } else if !p.eat_punct(',') {
                    return p.unknown_word("after an entry's type", ENTRY_WORDS);
                }
            }
            item.entries.push(entry);
            Some(())
        })?;
        item.damaged = self.damaged;
        Some(item)
    }

    fn message(&mut self) -> Option<MessageItem> {
        let doc = self.take_doc();
        self.next();
        let name = self.name("the message's name")?;
        let mut item = MessageItem {
            doc,
            name,
            id: None,
            id_nodes: None,
            from: None,
            every: None,
            on: Vec::new(),
            line: None,
            answered_by: Vec::new(),
            within: None,
            sections: vec![SectionItem::default()],
            damaged: false,
        };
        self.block(|p| p.message_statement(&mut item))?;
        item.damaged = self.damaged;
        Some(item)
    }

    fn message_statement(&mut self, item: &mut MessageItem) -> Option<()> {
        let token = self.peek();
        let named_field = self.peek_after(1).kind == TokenKind::Punct(':');
        let word = if token.kind == TokenKind::Word && !named_field { self.text_of(token) } else { "" };
        match word {
            "id" => {
                self.next();
                let number = self.number("the message's id")?;
                self.once(&mut item.id, number, "id", token.span);
                item.id_nodes = self.node_range()?;
            }
            "from" => {
                self.next();
                let end_token = self.peek();
                let end = self.end_of_link()?;
                self.once(&mut item.from, (end, end_token.span), "from", token.span);
                if self.eat_word("every") {
                    let start = self.peek().span.start;
                    let duration = self.duration()?;
                    item.every = Some((duration, Span::new(start, self.previous_end())));
                }
            }
            "on" => {
                self.next();
                loop {
                    let channel = self.name("a channel's name")?;
                    let key = self.channel_key()?;
                    item.on.push(OnItem { channel, key });
                    if !self.eat_punct(',') {
                        break;
                    }
                }
            }
            "answered" => {
                self.next();
                self.expect_word("by", "write `answered by MESSAGE within 50 ms`")?;
                loop {
                    let name = self.name("a message's name")?;
                    item.answered_by.push(name);
                    if !self.eat_punct(',') {
                        break;
                    }
                }
                if self.eat_word("within") {
                    let duration = self.duration()?;
                    item.within = Some(duration);
                }
            }
            "line" => {
                self.next();
                let text = self.peek();
                if text.kind != TokenKind::Text {
                    return self.unexpected("the line's pattern in quotes", "write `line \"V{valve}:{position}\"`");
                }
                self.next();
                let pattern = self.text_of(text).to_owned();
                self.once(&mut item.line, (pattern, text.span), "line", token.span);
            }
            "" | "spare" | "added" => return self.section_statement(&mut item.sections),
            _ => return self.unknown_word("in a message", MESSAGE_WORDS),
        }
        Some(())
    }

    pub(super) fn end_of_link(&mut self) -> Option<End> {
        let end = match self.text_of(self.peek()) {
            "device" => End::Device,
            "host" => End::Host,
            _ => return self.unknown_word("as an end of a link", &["device", "host"]),
        };
        self.next();
        Some(end)
    }

    /// `port N`, `endpoint N` or `can_id N [extended]`, if it stands here.
    fn channel_key(&mut self) -> Option<Option<KeyItem>> {
        let kind = match self.text_of(self.peek()) {
            "port" => KeyKind::Port,
            "can_id" => KeyKind::CanId,
            "endpoint" => KeyKind::Endpoint,
            _ => return Some(None),
        };
        self.next();
        let number = self.number("the key")?;
        let nodes = self.node_range()?;
        let extended = kind == KeyKind::CanId && self.eat_word("extended");
        Some(Some(KeyItem { kind, number, nodes, extended }))
    }

    /// `+ node 1 .. 127`, if it stands here.
    fn node_range(&mut self) -> Option<Option<NodeRange>> {
        if !self.eat_punct('+') {
            return Some(None);
        }
        let help = "write which nodes there are: `id 0x90 + node 0 .. 15`";
        self.expect_word("node", help)?;
        let (least, _) = self.whole("a node's number", 0, MAX_NODE, Code::BadNumber)?;
        if self.peek().kind != TokenKind::DotDot {
            return self.unexpected("`..` and the greatest node", help);
        }
        self.next();
        let (greatest, _) = self.whole("a node's number", least, least + MAX_NODES - 1, Code::BadNumber)?;
        Some(Some(NodeRange { least: least as u64, greatest: greatest as u64 }))
    }

    /// A field, or `added in N { … }`.
    fn section_statement(&mut self, sections: &mut Vec<SectionItem>) -> Option<()> {
        let start = self.peek().span;
        if self.is_word("added") && self.peek_after(1).kind != TokenKind::Punct(':') {
            self.next();
            self.expect_word("in", "write `added in 2 { … }`")?;
            let revision = self.number("a revision number")?;
            let mut fields = Vec::new();
            self.block(|p| {
                let field = p.field()?;
                fields.push(field);
                Some(())
            })?;
            sections.push(SectionItem { revision: Some(revision), fields });
            return Some(());
        }
        let field = self.field()?;
        if sections.len() > 1 {
            self.report(Finding::new(
                Code::Unexpected,
                start,
                "this field comes after an `added in` block, but the bytes of older revisions come first",
                "move it above the first `added in`, or into a block of the revision that adds it",
            ));
        } else {
            sections[0].fields.push(field);
        }
        Some(())
    }

    fn channel(&mut self) -> Option<ChannelItem> {
        let doc = self.take_doc();
        self.next();
        let name = self.name("the channel's name")?;
        let mut item = ChannelItem {
            doc,
            name,
            medium: None,
            limit: None,
            finding: None,
            select: None,
            frames: Vec::new(),
            damaged: false,
        };
        self.block(|p| p.channel_statement(&mut item))?;
        item.damaged = self.damaged;
        Some(item)
    }
}
