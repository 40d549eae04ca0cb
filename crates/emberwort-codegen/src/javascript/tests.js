const toHex = (some) => Buffer.from(some).toString("hex");

test("bodies agree both ways", () => {
  for (const [name, kind, make, key, body] of VECTORS) {
    const value = make();
    assert.equal(toHex(value.encode()), toHex(body), `${name} ${kind}`);
    const read = value.constructor.decode(body, key);
    assert.deepEqual(read, value, `${name} ${kind}`);
    assert.equal(toHex(read.encode()), toHex(body), `${name} ${kind}`);
  }
});

test("bodies that are cut are read or refused", () => {
  for (const [name, kind, , key, body, readable] of VECTORS) {
    const read = [];
    for (let length = 0; length < body.length; length++) {
      try {
        link.MESSAGES[name].decode(body.slice(0, length), key);
        read.push(length);
      } catch (problem) {
        assert(problem instanceof link.LinkError, `${name} ${kind}: ${problem.stack}`);
      }
    }
    assert.deepEqual(read, readable, `${name} ${kind}`);
  }
});

test("bytes of a later revision are stepped over", () => {
  for (const [name, kind, make, key, body] of VECTORS) {
    const value = make();
    if (value.sectionsHeld === value.constructor.SECTIONS && !TO_THE_END.includes(name)) {
      const longer = new Uint8Array([...body, 0xa5, 0x5a]);
      assert.deepEqual(value.constructor.decode(longer, key), value, `${name} ${kind}`);
    }
  }
});

test("frames agree both ways", () => {
  for (const [name, kind, build, open, make, key, wire] of FRAMES) {
    const frame = make();
    assert.equal(toHex(build(frame)), toHex(wire), `${name} ${kind}`);
    const found = open(wire);
    if (key !== null) {
      found.key = key;
    }
    assert.deepEqual(found, frame, `${name} ${kind}`);
  }
});

test("streams give the same frames after each chunk", () => {
  for (const [name, total, good, chunks] of STREAMS) {
    const receiver = new link.RECEIVERS[name]();
    for (const [n, [some, wanted]] of chunks.entries()) {
      const found = (some === "" ? receiver.gap() : receiver.feed(hex(some))).map(({ frame, error }) => {
        const kind = error === null ? "good" : error.kind === "unknown_message" ? "unknown message" : "body";
        return [kind, toHex(frame.body)];
      });
      // Of a frame that others may stand inside of, receivers need not say the same.
      const counted = found.filter(([kind]) => kind === "good" || !receiver.looksInside);
      assert.deepEqual(counted, wanted, `${name}, chunk ${n}`);
    }
    assert.equal(receiver.goodBytes, good, name);
    assert.equal(receiver.goodBytes + receiver.unreadBytes + receiver.skippedBytes, total, name);
  }
});

test("frames with a wrong byte are another frame or none", () => {
  for (const [name, kind, , open, , , wire] of FRAMES) {
    for (let at = 0; at < wire.length; at++) {
      const other = wire.slice();
      other[at] ^= 0x10;
      for (const some of [other, wire.slice(0, at)]) {
        try {
          open(some);
        } catch (problem) {
          assert(problem instanceof link.LinkError, `${name} ${kind}: ${problem.stack}`);
        }
      }
    }
  }
});

test("a member that the message does not have is refused", () => {
  for (const message of Object.values(link.MESSAGES)) {
    assert.throws(() => new message({ "no such member": 1 }), link.LinkError);
  }
});
