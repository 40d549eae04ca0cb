/** Finds frames in a stream. Every byte belongs to a good frame, an unread one, or is skipped. */
export class Receiver {
  constructor() {
    this.held = new Uint8Array(256);
    this.from = 0;
    this.to = 0;
    this.skipping = false;
    this.goodFrames = 0;
    this.goodBytes = 0;
    this.unreadFrames = 0;
    this.unreadBytes = 0;
    this.badChecksums = 0;
    this.badLengths = 0;
    this.badValues = 0;
    this.skippedBytes = 0;
  }

  get count() {
    return this.to - this.from;
  }

  // Keeps bytes behind those that are held.
  keep(data) {
    if (this.to + data.length > this.held.length) {
      const some = new Uint8Array(Math.max(256, 2 * (this.count + data.length)));
      some.set(this.held.subarray(this.from, this.to));
      this.to -= this.from;
      this.from = 0;
      this.held = some;
    }
    this.held.set(data, this.to);
    this.to += data.length;
  }

  skip(count) {
    this.from += count;
    this.skippedBytes += count;
  }

  judge(plain, count) {
    let frame, message = null, error = null;
    try {
      frame = this.open(plain);
    } catch (problem) {
      if (!(problem instanceof LinkError)) {
        throw problem;
      }
      if (problem.kind === "bad_checksum") {
        this.badChecksums += 1;
      } else if (problem.kind === "bad_length") {
        this.badLengths += 1;
      } else {
        this.badValues += 1;
      }
      return null;
    }
    const key = this.key(frame);
    const found = this.messages.get(key);
    if (found === undefined) {
      error = new LinkError("unknown_message", "no message has the key " + key);
    } else {
      try {
        message = found.decode(frame.body);
      } catch (problem) {
        if (!(problem instanceof LinkError)) {
          throw problem;
        }
        error = problem;
      }
    }
    if (error === null) {
      this.goodFrames += 1;
      this.goodBytes += count;
    } else {
      this.unreadFrames += 1;
      if (!this.looksInside) {
        this.unreadBytes += count;
      }
    }
    return { frame, message, error };
  }

  taken(found, count) {
    // Nothing says of a frame that cannot be read that it is one at all: the next can stand inside of it.
    if (found.error !== null && this.looksInside) {
      this.skip(1);
    } else {
      this.from += count;
    }
  }
}

// A frame may begin anywhere.
class FindsAnywhere extends Receiver {
  /** Takes bytes, as many as came; returns the frames that are whole with them. */
  feed(data) {
    this.keep(data);
    return this.find(false);
  }

  /** Nothing came for a while: what is half is dropped, and what stands whole in it is returned. */
  gap() {
    return this.find(true);
  }

  // Whether the held bytes begin with those of `some` that there is room for, and with how many.
  beginning(some) {
    const count = Math.min(some.length, this.count);
    for (let n = 0; n < count; n++) {
      if (this.held[this.from + n] !== some[n]) {
        return -1;
      }
    }
    return count;
  }
}

// Frames begin with sync bytes, and say how long they are.
class FindsBySync extends FindsAnywhere {
  find(ended) {
    const all = [];
    while (this.count > 0) {
      while (this.count > 0 && this.beginning(this.sync) < 0) {
        this.skip(1);
      }
      if (this.count === 0) {
        break;
      }
      const size = this.size(this.held.subarray(this.from, this.to));
      if (size < 0) {
        this.skip(1);
      } else if (size > 0 && this.count >= size) {
        const found = this.judge(this.held.slice(this.from, this.from + size), size);
        if (found === null) {
          this.skip(1);
        } else {
          this.taken(found, size);
          all.push(found);
        }
      } else if (ended) {
        this.skip(1);
      } else {
        break;
      }
    }
    return all;
  }
}

// Silence ends a frame: call gap() after it.
class FindsBySilence extends Receiver {
  feed(data) {
    for (const byte of data) {
      if (this.count === this.limit) {
        this.badLengths += this.skipping ? 0 : 1;
        this.skip(this.count);
        this.skipping = true;
      }
      if (this.skipping) {
        this.skippedBytes += 1;
      } else {
        this.keep([byte]);
      }
    }
    return [];
  }

  gap() {
    this.skipping = false;
    const count = this.count;
    if (count === 0) {
      return [];
    }
    const found = this.judge(this.held.slice(this.from, this.to), count);
    if (found === null || (found.error !== null && this.looksInside)) {
      this.skippedBytes += count;
    }
    this.from = this.to;
    return found === null ? [] : [found];
  }
}

// Frames stand between delimiters, which occur nowhere else.
class FindsByDelimiter extends Receiver {
  constructor() {
    super();
    this.lead = 0;
  }

  feed(data) {
    const all = [];
    for (const byte of data) {
      const found = this.put(byte);
      if (found !== null) {
        all.push(found);
      }
    }
    return all;
  }

  gap() {
    this.skippedBytes += this.count + this.lead;
    this.from = this.to;
    this.lead = 0;
    this.skipping = false;
    return [];
  }

  put(byte) {
    const isEnd = byte === this.delimiter;
    if (this.leads && isEnd && this.count === 0 && !this.skipping) {
      // Of several delimiters in front of a frame the last.
      this.skippedBytes += this.lead;
      this.lead = 1;
      return null;
    }
    if (this.count + this.lead === this.limit) {
      // Too long for a frame: passed over up to its delimiter.
      this.badLengths += this.skipping ? 0 : 1;
      this.skippedBytes += this.count + this.lead;
      this.from = this.to;
      this.lead = 0;
      this.skipping = true;
    }
    if (this.skipping) {
      if (this.leads && isEnd) {
        this.lead = 1;
      } else {
        this.skippedBytes += 1;
      }
      this.skipping = !isEnd;
      return null;
    }
    this.keep([byte]);
    if (!isEnd) {
      return null;
    }
    const count = this.count + this.lead;
    const stuffed = this.held.slice(this.from, this.to - 1);
    let found = null;
    if (stuffed.length > 0) {
      try {
        found = this.judge(this.plain(stuffed), count);
      } catch (problem) {
        if (!(problem instanceof LinkError)) {
          throw problem;
        }
        this.badValues += 1;
      }
    }
    this.from = this.to;
    if (found !== null) {
      this.lead = 0;
      return found;
    }
    // The delimiter that ended it may begin the next one.
    this.skippedBytes += this.leads ? count - 1 : count;
    this.lead = this.leads ? 1 : 0;
    return null;
  }
}

// Frames begin with sync bytes; in the rest some bytes are escaped.
class FindsByEscapes extends FindsAnywhere {
  constructor() {
    super();
    this.unescaped = [];
    this.read = 0;
  }

  skip(count) {
    super.skip(count);
    this.read = 0;
  }

  find(ended) {
    const all = [];
    while (this.count > 0) {
      const seen = this.beginning(this.sync);
      if (seen < 0) {
        this.skip(1);
        continue;
      }
      if (seen === this.sync.length) {
        if (this.read === 0) {
          this.unescaped = Array.from(this.sync);
          this.read = this.sync.length;
        }
        const how = this.readOn();
        if (how !== 0) {
          const count = this.read;
          this.read = 0;
          const found = how > 0 ? this.judge(new Uint8Array(this.unescaped), count) : null;
          if (found === null) {
            this.skip(1);
          } else {
            this.taken(found, count);
            all.push(found);
          }
          continue;
        }
      }
      if (!ended) {
        break;
      }
      this.skip(1);
    }
    return all;
  }

  // Reads on in the frame: 1 at its end, 0 if more bytes are needed, -1 if it is none.
  readOn() {
    for (;;) {
      const left = this.held.subarray(this.from + this.read, this.to);
      if (this.read + this.end.length > this.limit) {
        this.badLengths += 1;
        return -1;
      }
      if (this.unescaped.length === this.headBytes && this.hasWrongHead(this.unescaped)) {
        this.badValues += 1;
        return -1;
      }
      if (this.end.length > 0) {
        let same = 0;
        while (same < this.end.length && same < left.length && left[same] === this.end[same]) {
          same += 1;
        }
        if (same === this.end.length) {
          this.unescaped.push(...this.end);
          this.read += same;
          return 1;
        }
        if (same === left.length) {
          return 0;
        }
      } else {
        const size = this.size(this.unescaped);
        if (size < 0) {
          return -1;
        }
        if (size > 0 && size <= this.unescaped.length) {
          return 1;
        }
      }
      if (left.length === 0) {
        return 0;
      }
      if (this.codes[left[0]] === undefined && left[0] !== this.escape) {
        this.unescaped.push(left[0]);
        this.read += 1;
        continue;
      }
      if (left[0] !== this.escape) {
        this.badValues += 1;
        return -1;
      }
      if (left.length === 1) {
        return 0;
      }
      const byte = this.meanings[left[1]];
      if (byte === undefined) {
        this.badValues += 1;
        return -1;
      }
      this.unescaped.push(byte);
      this.read += 2;
    }
  }
}
