//! Channels: checksums, building and judging frames, receivers that are fed byte by byte.

use emberwort_model::Plan;
use emberwort_model::algorithm::{Algorithm, Crc};
use emberwort_model::model::End;
use emberwort_model::plan::{Bound, ChannelPlan, Covered, FrameFinder, KeySource, Part, Role, Zone};

use super::group::suffix;
use super::{comment, constant, doc_comment, has_receiver, member, unsigned_type};
use crate::code::Code;
use crate::names::{screaming, snake};

struct Channel<'a> {
    link: String,
    /// `link_channel`
    stem: String,
    upper: String,
    link_upper: String,
    plan: &'a ChannelPlan,
}

/// The frames of a channel by the end that sends them: both in one, where they are the same. Lines of text have none.
pub fn directions(channel: &ChannelPlan) -> Vec<(Option<End>, &ChannelPlan)> {
    match &channel.from_host {
        _ if matches!(channel.finder, FrameFinder::Lines { .. }) => Vec::new(),
        None => vec![(None, channel)],
        Some(host) => vec![(Some(End::Device), channel), (Some(End::Host), host)],
    }
}

/// What the names of a channel's functions begin with: `link_channel`, or `link_channel_from_host`.
pub fn stem(link: &str, channel: &ChannelPlan, from: Option<End>) -> String {
    let name = snake(&channel.name);
    from.map_or_else(|| format!("{link}_{name}"), |end| format!("{link}_{name}_from_{}", end.as_str()))
}

/// The same for frames that an end sends.
pub fn stem_of(link: &str, channel: &ChannelPlan, from: End) -> String {
    stem(link, channel, channel.from_host.as_ref().map(|_| from))
}

pub fn write(plan: &Plan, channel: &ChannelPlan, header: &mut Code, source: &mut Code) {
    header.line(format!("/* ---- channel {} ---- */", channel.name));
    header.line("");
    for (from, facing) in directions(channel) {
        one_direction(plan, facing, from, header, source);
    }
}

fn one_direction(plan: &Plan, channel: &ChannelPlan, from: Option<End>, header: &mut Code, source: &mut Code) {
    let link = snake(&plan.link.name);
    let stem = stem(&link, channel, from);
    let this = Channel { upper: screaming(&stem), link_upper: screaming(&link), stem, link, plan: channel };
    doc_comment(header, &channel.doc);
    this.frame_struct(header);
    for (index, part) in channel.parts.iter().enumerate() {
        if let Role::Checksum { algorithm, name, over, skipping } = &part.role {
            this.checksum(index, part, algorithm, name, source);
            this.checksum_of_frame(index, part, over, *skipping, source);
        }
    }
    this.build(header, source);
    this.open(header, source);
    this.known(plan, header, source);
    if has_receiver(channel.finder) {
        this.receiver(header, source);
    }
}

/// Whether a part's value is chosen by the sender.
fn is_chosen(part: &Part) -> bool {
    matches!(part.role, Role::Message | Role::Address | Role::Sequence | Role::Revision)
}

impl Channel<'_> {
    fn frame_struct(&self, header: &mut Code) {
        let Self { upper, stem, plan, .. } = self;
        header.line(format!("#define {upper}_LIMIT {}u /* most bytes of a frame on the wire */", plan.limit));
        header.open(format!("typedef struct {stem}_frame {{"));
        for part in plan.parts.iter().filter(|part| is_chosen(part)) {
            let role = match part.role {
                Role::Message => "selects the message",
                Role::Address => "node",
                Role::Sequence => "goes up by one a frame",
                _ => "the sender's revision",
            };
            let doc = if part.doc.is_empty() { String::new() } else { format!(": {}", comment(&part.doc)) };
            header.line(format!("{} {}; /* {role}{doc} */", unsigned_type(part.bits), member(&part.name)));
        }
        if plan.key_is_outside() {
            let what =
                if plan.selected_by == KeySource::CanId { "CAN identifier (bit 31 for 29 bits)" } else { "port" };
            header
                .line(format!("uint32_t key; /* the {what} that selects the message; set it before ..._check_body */"));
        }
        header.line("const uint8_t *body;");
        header.line("size_t size; /* bytes of the body */");
        header.close(format!("}} {stem}_frame_t;"));
        header.line("");
    }

    /// The bit place of a part as a C expression; `end` is the body's end in bytes.
    fn place(&self, part: &Part) -> String {
        match part.zone {
            Zone::Head => format!("{}u", part.at_bit),
            Zone::Tail => format!("end * 8u + {}u", part.at_bit),
        }
    }

    fn get(&self, part: &Part, bytes: &str) -> String {
        let suffix = suffix(part.bits, part.order, self.plan.byte_order);
        format!("{}_get{suffix}({bytes}, {}, {}u)", self.link, self.place(part), part.bits)
    }

    fn put(&self, part: &Part, bytes: &str, value: &str) -> String {
        let ty = if part.bits > 32 { "uint64_t" } else { "uint32_t" };
        let suffix = suffix(part.bits, part.order, self.plan.byte_order);
        format!("{}_put{suffix}({bytes}, {}, {}u, ({ty}){value});", self.link, self.place(part), part.bits)
    }

    /// The running part of a checksum: a function that takes more bytes into a register.
    fn checksum(&self, index: usize, part: &Part, algorithm: &Algorithm, name: &str, source: &mut Code) {
        let stem = format!("{}_{}_{index}", self.stem, snake(&part.name));
        let signature = |ty: &str| {
            format!("static {ty} {stem}_update({ty} sum, const uint8_t *bytes, size_t size)\n{{\n    size_t n;")
        };
        match algorithm {
            Algorithm::Crc(crc) => {
                let ty = unsigned_type(crc.width);
                let container = container(crc.width);
                source.line(format!("/* {}: a CRC of {} bits, polynomial {:#x}. */", comment(name), crc.width, crc.polynomial));
                source.line(format!("static const {ty} {stem}_table[256] = {{"));
                let table = crc_table(crc, container);
                let digits = container as usize / 4;
                for row in table.chunks(8) {
                    let cells: Vec<String> = row.iter().map(|cell| format!("0x{cell:0digits$X}u")).collect();
                    let cells = if container == 64 { cells.iter().map(|c| format!("{c}ll")).collect() } else { cells };
                    source.line(format!("    {},", cells.join(", ")));
                }
                source.lines("};\n");
                source.line("");
                let step = match (crc.reflect_in, container) {
                    (true, 8) => format!("{stem}_table[sum ^ bytes[n]]"),
                    (true, _) => format!("({ty})((sum >> 8) ^ {stem}_table[(sum ^ bytes[n]) & 0xFFu])"),
                    (false, 8) => format!("{stem}_table[sum ^ bytes[n]]"),
                    (false, bits) => format!("({ty})(({ty})(sum << 8) ^ {stem}_table[(sum >> {}) ^ bytes[n]])", bits - 8),
                };
                source.lines(&format!(
                    "{}\n    for (n = 0; n < size; n++) {{\n        sum = {step};\n    }}\n    return sum;\n}}\n",
                    signature(ty)
                ));
            }
            Algorithm::Internet { .. } => source.lines(&format!(
                "/* The Internet checksum (RFC 1071). Bit 31 of the sum says that an odd number of bytes went in. */\n\
                 {}\n    for (n = 0; n < size; n++) {{\n        \
                     uint32_t odd = sum & 0x80000000u;\n        \
                     sum = (sum & 0x7FFFFFFFu) + (odd != 0u ? (uint32_t)bytes[n] : (uint32_t)bytes[n] << 8);\n        \
                     sum = ((sum & 0xFFFFu) + (sum >> 16)) | (odd ^ 0x80000000u);\n    }}\n    return sum;\n}}\n",
                signature("uint32_t")
            )),
            Algorithm::Sum8 { .. } => source.lines(&format!(
                "{}\n    for (n = 0; n < size; n++) {{\n        sum = (uint8_t)(sum + bytes[n]);\n    }}\n    return sum;\n}}\n",
                signature("uint8_t")
            )),
            Algorithm::Xor8 { .. } => source.lines(&format!(
                "{}\n    for (n = 0; n < size; n++) {{\n        sum = (uint8_t)(sum ^ bytes[n]);\n    }}\n    return sum;\n}}\n",
                signature("uint8_t")
            )),
        }
        source.line("");
    }

    /// The checksum of a frame, over the stretches that it covers.
    fn checksum_of_frame(&self, index: usize, part: &Part, over: &[Covered], skipping: bool, source: &mut Code) {
        let Role::Checksum { algorithm, .. } = &part.role else { return };
        let stem = format!("{}_{}_{index}", self.stem, snake(&part.name));
        let (ty, start, finish) = start_and_finish(algorithm);
        let later: Vec<&Part> =
            self.plan.parts[index..].iter().filter(|part| matches!(part.role, Role::Checksum { .. })).collect();
        let mut lines = Vec::new();
        let mut zeros = false;
        for covered in over {
            let mut at = covered.from;
            let update = |from: Bound, to: Bound| match (from, to) {
                (Bound::Head(a), Bound::Head(b)) | (Bound::Tail(a), Bound::Tail(b)) if a == b => None,
                _ => {
                    let (a, b) = (bound(from), bound(to));
                    Some(format!("sum = {stem}_update(sum, frame + ({a}), ({b}) - ({a}));"))
                }
            };
            for blank in &later {
                let (offset, bytes) = (blank.at_bit as usize / 8, usize::from(blank.bits) / 8);
                let (first, last) = match blank.zone {
                    Zone::Head => (Bound::Head(offset), Bound::Head(offset + bytes)),
                    Zone::Tail => (Bound::Tail(offset), Bound::Tail(offset + bytes)),
                };
                if first.is_before(covered.from) || covered.to.is_before(last) {
                    continue;
                }
                lines.extend(update(at, first));
                if !skipping {
                    zeros = true;
                    lines.push(format!("sum = {stem}_update(sum, zeros, {bytes}u);"));
                }
                at = last;
            }
            lines.extend(update(at, covered.to));
        }
        let result = unsigned_type(algorithm.bits());
        source.lines(&format!("static {result} {stem}(const uint8_t *frame, size_t end)\n{{"));
        if zeros {
            source.line("    static const uint8_t zeros[8] = {0};");
        }
        source.line(format!("    {ty} sum = {start};"));
        for line in lines {
            source.line(format!("    {line}"));
        }
        source.lines(&format!("    (void)end;\n    {finish}\n}}\n"));
        source.line("");
    }

    /// Building a frame around a body.
    fn build(&self, header: &mut Code, source: &mut Code) {
        let Self { stem, upper, link, link_upper, plan } = self;
        let signature = format!(
            "{link}_result_t {stem}_build(const {stem}_frame_t *frame, uint8_t *out, size_t room, size_t *used)"
        );
        header.line("/* Writes the frame around a body as it goes over the wire; *used is its size. `out` and the body must not overlap. */");
        header.line(format!("{signature};"));
        let around = plan.head_bytes + plan.tail_bytes;
        let cobs = plan.finder == FrameFinder::Cobs;
        source.lines(&format!("{signature}\n{{\n    uint8_t *bytes = out;\n    size_t end;\n    size_t size;"));
        if cobs {
            source.line("    size_t ahead;\n    size_t n;\n    size_t to;\n    size_t code;");
        }
        source.line("    *used = 0;");
        let longest = (0..=plan.limit).rev().find(|body| plan.frame_size(*body) <= plan.limit);
        let Some(longest) = longest else { return };
        source.lines(&format!("    if (frame->size > {longest}u) {{\n        return {link_upper}_BAD_LENGTH;\n    }}"));
        source.line(format!("    size = frame->size + {around}u;"));
        if cobs {
            source.lines(&format!(
                "    /* The plain frame stands behind room for the code bytes, and is stuffed towards the front. */\n    \
                     ahead = (size + 253u) / 254u;\n    \
                     if (ahead < 1u) {{\n        ahead = 1u;\n    }}\n    \
                     if (size + ahead + 1u > room || size + ahead + 1u > {upper}_LIMIT) {{\n        return {link_upper}_NO_ROOM;\n    }}\n    \
                     bytes = out + ahead;"
            ));
        } else {
            source.lines(&format!("    if (size > room) {{\n        return {link_upper}_NO_ROOM;\n    }}"));
        }
        source.line(format!("    end = {}u + frame->size;", plan.head_bytes));
        if plan.head_bytes > 0 {
            source.line(format!("    memset(bytes, 0, {}u);", plan.head_bytes));
        }
        source.lines(&format!(
            "    if (frame->size > 0u) {{\n        memcpy(bytes + {}u, frame->body, frame->size);\n    }}",
            plan.head_bytes
        ));
        if plan.tail_bytes > 0 {
            source.line(format!("    memset(bytes + end, 0, {}u);", plan.tail_bytes));
        }
        for (n, byte) in plan.sync.iter().enumerate() {
            source.line(format!("    bytes[{n}] = 0x{byte:02X}u;"));
        }
        for part in &plan.parts {
            match &part.role {
                Role::Checksum { .. } => {}
                Role::Fixed(0) => {}
                Role::Fixed(value) => {
                    source.line(format!(
                        "    {}",
                        self.put(part, "bytes", &constant(i128::from(*value), part.bits, false))
                    ));
                }
                Role::Length { other_bytes, unit } => {
                    let count = format!("(frame->size + {other_bytes}u)");
                    if *unit > 1 {
                        source.lines(&format!(
                            "    if ({count} % {unit}u != 0u) {{\n        return {link_upper}_BAD_LENGTH;\n    }}"
                        ));
                    }
                    let count = if *unit > 1 { format!("({count} / {unit}u)") } else { count };
                    if part.bits < 32 {
                        source.lines(&format!(
                            "    if ({count} > {}u) {{\n        return {link_upper}_BAD_LENGTH;\n    }}",
                            (1u64 << part.bits) - 1
                        ));
                    }
                    source.line(format!("    {}", self.put(part, "bytes", &count)));
                }
                role => {
                    let name = member(&part.name);
                    // A sequence number goes around; other values must fit.
                    let container = container(part.bits);
                    if *role != Role::Sequence && part.bits < container {
                        source.lines(&format!(
                            "    if (frame->{name} > {}) {{\n        return {link_upper}_OUT_OF_RANGE;\n    }}",
                            constant((1i128 << part.bits) - 1, part.bits, false)
                        ));
                    }
                    source.line(format!("    {}", self.put(part, "bytes", &format!("frame->{name}"))));
                }
            }
        }
        for (index, part) in plan.parts.iter().enumerate() {
            if matches!(part.role, Role::Checksum { .. }) {
                let value = format!("{stem}_{}_{index}(bytes, end)", snake(&part.name));
                source.line(format!("    {}", self.put(part, "bytes", &value)));
            }
        }
        if cobs {
            source.lines(
                "    code = 0;\n    to = 1;\n    out[0] = 1;\n    for (n = 0; n < size; n++) {\n        \
                     uint8_t byte = bytes[n];\n        \
                     if (byte == 0u) {\n            code = to++;\n            out[code] = 1;\n            continue;\n        }\n        \
                     out[to++] = byte;\n        \
                     out[code] = (uint8_t)(out[code] + 1u);\n        \
                     if (out[code] == 0xFFu && n + 1u < size) {\n            code = to++;\n            out[code] = 1;\n        }\n    \
                 }\n    out[to++] = 0;\n    size = to;",
            );
        }
        source.lines(&format!("    (void)end;\n    *used = size;\n    return {link_upper}_OK;\n}}\n"));
        source.line("");
    }

    /// Judging the bytes of one whole frame.
    fn open(&self, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, plan, .. } = self;
        let around = plan.head_bytes + plan.tail_bytes;
        let signature =
            format!("{link}_result_t {stem}_open({stem}_frame_t *frame, const uint8_t *bytes, size_t size)");
        let stuffed = if plan.finder == FrameFinder::Cobs { ", unstuffed and without its delimiter" } else { "" };
        let shorter = if around > 0 { format!("size < {around}u || ") } else { String::new() };
        header.line(format!("/* Judges one whole frame{stuffed}: length, checksums, fixed values. */"));
        header.line(format!("{signature};"));
        source.lines(&format!(
            "{signature}\n{{\n    size_t end;\n    if ({shorter}size > {}_LIMIT) {{\n        return {link_upper}_BAD_LENGTH;\n    }}",
            self.upper
        ));
        source.line(format!("    end = size - {}u;", plan.tail_bytes));
        if let Some((part, other, unit)) = self.length_part()
            && part.zone == Zone::Head
        {
            let value = self.get(part, "bytes");
            source.lines(&format!(
                "    if ((uint64_t){value} * {unit}u != (uint64_t)(size - {around}u) + {other}u) {{\n        \
                     return {link_upper}_BAD_LENGTH;\n    }}"
            ));
        }
        for (index, part) in plan.parts.iter().enumerate() {
            if matches!(part.role, Role::Checksum { .. }) {
                source.lines(&format!(
                    "    if ({stem}_{}_{index}(bytes, end) != {}) {{\n        return {link_upper}_BAD_CHECKSUM;\n    }}",
                    snake(&part.name),
                    self.get(part, "bytes")
                ));
            }
        }
        for part in &plan.parts {
            if let Role::Fixed(value) = part.role {
                source.lines(&format!(
                    "    if ({} != {}) {{\n        return {link_upper}_BAD_VALUE;\n    }}",
                    self.get(part, "bytes"),
                    constant(i128::from(value), part.bits, false)
                ));
            }
        }
        for part in plan.parts.iter().filter(|part| is_chosen(part)) {
            source.line(format!(
                "    frame->{} = ({}){};",
                member(&part.name),
                unsigned_type(part.bits),
                self.get(part, "bytes")
            ));
        }
        source.lines(&format!(
            "    frame->body = bytes + {}u;\n    frame->size = end - {}u;\n    return {link_upper}_OK;\n}}\n",
            plan.head_bytes, plan.head_bytes
        ));
        source.line("");
    }

    fn length_part(&self) -> Option<(&Part, usize, usize)> {
        self.plan.parts.iter().find_map(|part| match part.role {
            Role::Length { other_bytes, unit } => Some((part, other_bytes, unit)),
            _ => None,
        })
    }

    /// Whether the body of a judged frame can be decoded.
    fn known(&self, plan: &Plan, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, .. } = self;
        let signature = format!("{link}_result_t {stem}_check_body(const {stem}_frame_t *frame)");
        header.line("/* Whether the frame's key is known, and its body can be decoded as that message. */");
        header.line(format!("{signature};"));
        header.line("");
        source.lines(&format!("{signature}\n{{"));
        let selected = match (self.plan.key_part(), self.plan.selected_by) {
            (Some(part), _) => Some((format!("frame->{}", member(&part.name)), part.bits)),
            (None, KeySource::Port | KeySource::CanId) => Some(("frame->key".into(), 32)),
            (None, KeySource::Size) => Some(("(uint64_t)frame->size".into(), 64)),
            (None, _) => None,
        };
        match (selected, self.plan.keys.first()) {
            (Some((value, bits)), _) => {
                source.line(format!("    switch ({value}) {{"));
                for (key, message) in &self.plan.keys {
                    let message = snake(&plan.messages[*message].message.name);
                    source.line(format!("    case {}:", constant(i128::from(*key), bits, false)));
                    source.line(format!("        return {link}_{message}_check(frame->body, frame->size);"));
                }
                source.lines(&format!("    default:\n        return {link_upper}_UNKNOWN_MESSAGE;\n    }}\n}}\n"));
            }
            (None, Some((_, only))) => {
                let message = snake(&plan.messages[*only].message.name);
                source.lines(&format!("    return {link}_{message}_check(frame->body, frame->size);\n}}\n"));
            }
            (None, None) => source.lines(&format!("    (void)frame;\n    return {link_upper}_UNKNOWN_MESSAGE;\n}}\n")),
        }
        source.line("");
    }

    fn receiver(&self, header: &mut Code, source: &mut Code) {
        let Self { stem, upper, .. } = self;
        header.lines(&format!(
            "/* Finds frames in a stream. After each byte call ..._next() until it returns false; a frame points into the\n \
              * receiver and is valid until the next call. After a broken frame the search goes on one byte behind its start. */\n\
             typedef struct {stem}_receiver {{\n    \
                 uint8_t buffer[{upper}_LIMIT];\n    \
                 size_t start; /* first byte not looked at */\n    \
                 size_t held;  /* bytes from there on */\n    \
                 size_t taken; /* bytes of the frame given out last */\n    \
                 bool ended;\n    \
                 bool skipping;\n    \
                 uint32_t good_frames;\n    \
                 uint32_t good_bytes;\n    \
                 uint32_t skipped_bytes; /* of broken frames, or of none */\n\
             }} {stem}_receiver_t;\n\
             void {stem}_receiver_init({stem}_receiver_t *receiver);\n\
             void {stem}_receiver_put({stem}_receiver_t *receiver, uint8_t byte);\n\
             bool {stem}_receiver_next({stem}_receiver_t *receiver, {stem}_frame_t *frame);\n\
             /* No more bytes will come: call ..._next() until it returns false once more. */\n\
             void {stem}_receiver_end({stem}_receiver_t *receiver);\n"
        ));
        header.line("");
        source.lines(&format!(
            "void {stem}_receiver_init({stem}_receiver_t *receiver)\n{{\n    memset(receiver, 0, sizeof *receiver);\n}}\n\n\
             void {stem}_receiver_end({stem}_receiver_t *receiver)\n{{\n    receiver->ended = true;\n}}\n\n\
             static void {stem}_receiver_skip({stem}_receiver_t *receiver, size_t size)\n{{\n    \
                 receiver->start += size;\n    receiver->held -= size;\n    receiver->skipped_bytes += (uint32_t)size;\n}}\n"
        ));
        source.line("");
        match self.plan.finder {
            FrameFinder::SyncLength => self.sync_receiver(source),
            FrameFinder::Cobs => self.cobs_receiver(source),
            FrameFinder::Packet | FrameFinder::Lines { .. } => {}
        }
    }

    fn sync_receiver(&self, source: &mut Code) {
        let Self { stem, upper, plan, link_upper, .. } = self;
        let Some((part, other, unit)) = self.length_part() else { return };
        let around = plan.head_bytes + plan.tail_bytes;
        let sync: Vec<String> = plan.sync.iter().map(|byte| format!("0x{byte:02X}u")).collect();
        let count = sync.len();
        let length_end = (part.at_bit as usize + usize::from(part.bits)).div_ceil(8);
        // What the length part can say of frames from the shortest to the limit.
        let greatest = (plan.limit - around + other) / unit;
        let value_type = if part.bits > 32 { "uint64_t" } else { "uint32_t" };
        let value = self.get(part, "bytes");
        // A length below what surrounds the body has no comparison if it cannot be.
        let too_small = if other > 0 { format!(" || (size_t)count * {unit}u < {other}u") } else { String::new() };
        let fits_type = part.bits >= 32 || ((1u64 << part.bits) - 1) > greatest as u64;
        let too_large = if fits_type { format!("count > {greatest}u") } else { "false".into() };
        source.lines(&format!(
            "static void {stem}_receiver_drop_taken({stem}_receiver_t *receiver)\n{{\n    \
                 receiver->start += receiver->taken;\n    receiver->held -= receiver->taken;\n    receiver->taken = 0;\n}}\n\n\
             void {stem}_receiver_put({stem}_receiver_t *receiver, uint8_t byte)\n{{\n    \
                 {stem}_receiver_drop_taken(receiver);\n    \
                 if (receiver->held == {upper}_LIMIT) {{\n        \
                     /* Nobody called ..._next(): the oldest byte makes room. */\n        \
                     {stem}_receiver_skip(receiver, 1);\n    }}\n    \
                 if (receiver->start + receiver->held == {upper}_LIMIT) {{\n        \
                     memmove(receiver->buffer, receiver->buffer + receiver->start, receiver->held);\n        \
                     receiver->start = 0;\n    }}\n    \
                 receiver->buffer[receiver->start + receiver->held] = byte;\n    \
                 receiver->held++;\n}}\n\n\
             bool {stem}_receiver_next({stem}_receiver_t *receiver, {stem}_frame_t *frame)\n{{\n    \
                 static const uint8_t sync[{count}] = {{{}}};\n    \
                 {stem}_receiver_drop_taken(receiver);\n    \
                 while (receiver->held > 0u) {{\n        \
                     const uint8_t *bytes = receiver->buffer + receiver->start;\n        \
                     size_t seen = receiver->held < {count}u ? receiver->held : {count}u;\n        \
                     if (memcmp(bytes, sync, seen) != 0) {{\n            \
                         {stem}_receiver_skip(receiver, 1);\n            continue;\n        }}\n        \
                     if (receiver->held >= {length_end}u) {{\n            \
                         {value_type} count = {value};\n            \
                         size_t size;\n            \
                         if ({too_large}{too_small}) {{\n                \
                             {stem}_receiver_skip(receiver, 1);\n                continue;\n            }}\n            \
                         size = (size_t)count * {unit}u - {other}u + {around}u;\n            \
                         if (receiver->held >= size) {{\n                \
                             if ({stem}_open(frame, bytes, size) == {link_upper}_OK && {stem}_check_body(frame) == {link_upper}_OK) {{\n                    \
                                 receiver->taken = size;\n                    \
                                 receiver->good_frames++;\n                    \
                                 receiver->good_bytes += (uint32_t)size;\n                    \
                                 return true;\n                }}\n                \
                             {stem}_receiver_skip(receiver, 1);\n                continue;\n            }}\n        }}\n        \
                     if (!receiver->ended) {{\n            return false;\n        }}\n        \
                     {stem}_receiver_skip(receiver, 1);\n    }}\n    \
                 return false;\n}}\n",
            sync.join(", ")
        ));
        source.line("");
    }

    fn cobs_receiver(&self, source: &mut Code) {
        let Self { stem, upper, link_upper, .. } = self;
        source.lines(&format!(
            "void {stem}_receiver_put({stem}_receiver_t *receiver, uint8_t byte)\n{{\n    \
                 if (receiver->taken != 0u) {{\n        \
                     /* The frame before is done with. */\n        \
                     receiver->taken = 0;\n        receiver->held = 0;\n    }}\n    \
                 if (receiver->held == {upper}_LIMIT) {{\n        \
                     /* Too long for a frame: passed over up to its delimiter. */\n        \
                     receiver->skipped_bytes += (uint32_t)receiver->held;\n        \
                     receiver->held = 0;\n        receiver->skipping = true;\n    }}\n    \
                 receiver->buffer[receiver->held] = byte;\n    receiver->held++;\n    \
                 if (receiver->skipping) {{\n        \
                     receiver->skipped_bytes += (uint32_t)receiver->held;\n        \
                     receiver->held = 0;\n        receiver->skipping = byte != 0u;\n    }}\n}}\n\n\
             bool {stem}_receiver_next({stem}_receiver_t *receiver, {stem}_frame_t *frame)\n{{\n    \
                 uint8_t *bytes = receiver->buffer;\n    \
                 size_t from = 0;\n    size_t to = 0;\n    size_t stuffed;\n    bool right = true;\n    \
                 if (receiver->taken != 0u || receiver->held == 0u) {{\n        return false;\n    }}\n    \
                 stuffed = receiver->held - 1u;\n    \
                 if (bytes[stuffed] != 0u) {{\n        \
                     if (receiver->ended) {{\n            {stem}_receiver_skip(receiver, receiver->held);\n            receiver->start = 0;\n        }}\n        \
                     return false;\n    }}\n    \
                 while (right && from < stuffed) {{\n        \
                     size_t code = bytes[from];\n        size_t n;\n        \
                     if (from + code > stuffed) {{\n            right = false;\n            break;\n        }}\n        \
                     for (n = 1; n < code; n++) {{\n            bytes[to++] = bytes[from + n];\n        }}\n        \
                     from += code;\n        \
                     if (code < 0xFFu && from < stuffed) {{\n            bytes[to++] = 0;\n        }}\n    }}\n    \
                 if (right && stuffed > 0u && {stem}_open(frame, bytes, to) == {link_upper}_OK && {stem}_check_body(frame) == {link_upper}_OK) {{\n        \
                     receiver->taken = receiver->held;\n        \
                     receiver->good_frames++;\n        \
                     receiver->good_bytes += (uint32_t)receiver->held;\n        \
                     return true;\n    }}\n    \
                 {stem}_receiver_skip(receiver, receiver->held);\n    receiver->start = 0;\n    \
                 return false;\n}}\n"
        ));
        source.line("");
    }
}

fn container(bits: u8) -> u8 {
    match bits {
        0..=8 => 8,
        9..=16 => 16,
        17..=32 => 32,
        _ => 64,
    }
}

fn bound(bound: Bound) -> String {
    match bound {
        Bound::Head(offset) => format!("{offset}u"),
        Bound::Tail(0) => "end".into(),
        Bound::Tail(offset) => format!("end + {offset}u"),
    }
}

/// The register's C type, its first value, and the statement that returns the result from `sum`.
fn start_and_finish(algorithm: &Algorithm) -> (&'static str, String, String) {
    match algorithm {
        Algorithm::Crc(crc) => {
            let ty = unsigned_type(crc.width);
            let unused = container(crc.width) - crc.width;
            let mirrored = crc.initial.reverse_bits() >> (64 - crc.width);
            let start = if crc.reflect_in { mirrored } else { crc.initial << unused };
            let c = |value: u64| constant(i128::from(value), container(crc.width), false);
            let plain = if crc.reflect_in { "sum".to_owned() } else { format!("(sum >> {unused})") };
            let finish = if crc.reflect_in == crc.reflect_out {
                format!("return ({ty})({plain} ^ {});", c(crc.final_xor))
            } else {
                format!(
                    "{ty} out = 0;\n    unsigned n;\n    sum = ({ty}){plain};\n    \
                     for (n = 0; n < {}u; n++) {{\n        out = ({ty})((unsigned long long)out << 1 | ((unsigned long long)sum >> n & 1u));\n    }}\n    \
                     return ({ty})(out ^ {});",
                    crc.width,
                    c(crc.final_xor)
                )
            };
            (ty, c(start), finish)
        }
        Algorithm::Internet { start, final_xor } => (
            "uint32_t",
            format!("{start}u"),
            format!(
                "sum &= 0x7FFFFFFFu;\n    sum = (sum & 0xFFFFu) + (sum >> 16);\n    \
                 sum = (sum & 0xFFFFu) + (sum >> 16);\n    return (uint16_t)(~sum ^ {final_xor}u);"
            ),
        ),
        Algorithm::Sum8 { start, final_xor } | Algorithm::Xor8 { start, final_xor } => {
            ("uint8_t", format!("{start}u"), format!("return (uint8_t)(sum ^ {final_xor}u);"))
        }
    }
}

/// The table of a CRC whose register has `bits` bits: mirrored ones at its low end, others at its high end.
fn crc_table(crc: &Crc, bits: u8) -> Vec<u64> {
    let mask = if bits == 64 { u64::MAX } else { (1 << bits) - 1 };
    (0..256u64)
        .map(|byte| {
            if crc.reflect_in {
                let polynomial = crc.polynomial.reverse_bits() >> (64 - crc.width);
                (0..8).fold(byte, |sum, _| if sum & 1 == 1 { sum >> 1 ^ polynomial } else { sum >> 1 })
            } else {
                let polynomial = crc.polynomial << (bits - crc.width);
                let top = 1u64 << (bits - 1);
                (0..8).fold(byte << (bits - 8), |sum, _| {
                    (if sum & top != 0 { sum << 1 ^ polynomial } else { sum << 1 }) & mask
                })
            }
        })
        .collect()
}
