function reader(body, key) {
  return { body: body, end: body.length, bit: 0, key: key };
}

function need(r, bits) {
  if (r.bit + bits > r.end * 8) {
    throw tooShort(r.end, Math.ceil((r.bit + bits) / 8));
  }
}

function tooShort(end, needed) {
  return new LinkError("truncated", "the bytes end at " + end + "; at least " + needed + " are needed");
}

function alignReader(r) {
  r.bit = Math.ceil(r.bit / 8) * 8;
}

// A number of at most 53 bits, from a bit on.
function bitsAt(b, at, width, little) {
  var value = 0, done = 0, place, skip, bits;
  while (done < width) {
    place = at + done;
    skip = place % 8;
    bits = Math.min(8 - skip, width - done);
    if (little) {
      value += ((b[(place - skip) / 8] >> skip) & ((1 << bits) - 1)) * Math.pow(2, done);
    } else {
      value = value * (1 << bits) + ((b[(place - skip) / 8] >> (8 - skip - bits)) & ((1 << bits) - 1));
    }
    done += bits;
  }
  return value;
}

function get(r, width, little) {
  need(r, width);
  r.bit += width;
  return bitsAt(r.body, r.bit - width, width, little);
}

// A compact number of at most 53 bits.
function varint(r, width) {
  var value = 0, shift, byte, group;
  for (shift = 0; shift < width; shift += 7) {
    byte = get(r, 8, true);
    group = byte & 0x7f;
    if (width - shift < 7 && group >> (width - shift) !== 0) {
      break;
    }
    value += group * Math.pow(2, shift);
    if (byte < 0x80) {
      return value;
    }
  }
  throw new LinkError("bad_number", "a compact number has more than " + width + " bits");
}

function count(r, most, little) {
  var found = get(r, most < 256 ? 8 : 16, little);
  if (found > most) {
    throw new LinkError("too_many", found + " are more than " + most);
  }
  return found;
}

function take(r, many, little) {
  var some = [], first = r.bit / 8, n;
  need(r, many * 8);
  if (r.bit % 8 === 0) {
    r.bit += many * 8;
    return r.body.slice(first, first + many);
  }
  for (n = 0; n < many; n++) {
    some.push(get(r, 8, little));
  }
  return bytesOf(some);
}

function rest(r) {
  var first = r.bit / 8;
  need(r, 0);
  r.bit = r.end * 8;
  return r.body.slice(first, r.end);
}

function writer() {
  return { out: [], bit: 0 };
}

// Fills up with zeros to where the writer is.
function reach(w) {
  while (w.out.length * 8 < w.bit) {
    w.out.push(0);
  }
}

function alignWriter(w) {
  w.bit = Math.ceil(w.bit / 8) * 8;
  reach(w);
}

// Up to eight bits of a number whose lower and upper 32 bits these are.
function partOf(low, high, shift, bits) {
  var mask = (1 << bits) - 1;
  if (shift >= 32) {
    return (high >>> (shift - 32)) & mask;
  }
  if (shift + bits <= 32) {
    return (low >>> shift) & mask;
  }
  return ((low >>> shift) | (high << (32 - shift))) & mask;
}

// Sets bits, which were zero.
function setBits(out, at, low, high, width, little) {
  var done = 0, place, skip, bits;
  while (done < width) {
    place = at + done;
    skip = place % 8;
    bits = Math.min(8 - skip, width - done);
    if (little) {
      out[(place - skip) / 8] |= partOf(low, high, done, bits) << skip;
    } else {
      out[(place - skip) / 8] |= partOf(low, high, width - done - bits, bits) << (8 - skip - bits);
    }
    done += bits;
  }
}

// The upper 32 bits of a number; the lower ones are `number >>> 0`.
function upper(number) {
  return Math.floor(number / 4294967296) >>> 0;
}

function put(w, number, width, little) {
  w.bit += width;
  reach(w);
  setBits(w.out, w.bit - width, number >>> 0, upper(number), width, little);
}

function putVarint(w, number) {
  while (number > 0x7f) {
    put(w, number % 128 + 128, 8, true);
    number = Math.floor(number / 128);
  }
  put(w, number, 8, true);
}

function putCount(w, many, most, little, what) {
  if (!(many <= most)) {
    throw new LinkError("too_many", what + ": " + many + " are more than " + most);
  }
  put(w, many, most < 256 ? 8 : 16, little);
}

function putBytes(w, some, little) {
  var first = w.bit / 8, n;
  if (w.bit % 8 === 0) {
    for (n = 0; n < some.length; n++) {
      w.out[first + n] = some[n];
    }
    w.bit += some.length * 8;
    return;
  }
  for (n = 0; n < some.length; n++) {
    put(w, some[n], 8, little);
  }
}

function outOfRange(what, value) {
  return new LinkError("out_of_range", what + ": " + String(value) + " does not fit");
}

// The bytes of something like an array, each of which has to be one.
function checkedBytes(some, what) {
  var n;
  if (some === null || typeof some !== "object" || !isWhole(some.length)) {
    throw outOfRange(what, some);
  }
  for (n = 0; n < some.length; n++) {
    if (!(some[n] >= 0 && some[n] <= 255 && some[n] % 1 === 0)) {
      throw outOfRange(what, some[n]);
    }
  }
  return some;
}

function zeros(many) {
  var all = [];
  while (all.length < many) {
    all.push(0);
  }
  return all;
}

function listOf(many, make) {
  var all = [];
  while (all.length < many) {
    all.push(make());
  }
  return all;
}

// Several stretches of bytes as one.
function joined(parts) {
  var all = [], n, at;
  for (n = 0; n < parts.length; n++) {
    for (at = 0; at < parts[n].length; at++) {
      all.push(parts[n][at]);
    }
  }
  return all;
}

function isWhole(value) {
  return typeof value === "number" && value % 1 === 0;
}

// The nearest whole number; of two that are as near the one away from zero.
function nearest(value) {
  return value >= 0 ? Math.floor(value + 0.5) : -Math.floor(-value + 0.5);
}

function signed(raw, width) {
  var half = Math.pow(2, width - 1);
  return raw >= half ? raw - 2 * half : raw;
}

function unsigned(raw, width) {
  return raw < 0 ? raw + Math.pow(2, width) : raw;
}

function zigzag(raw) {
  return raw % 2 === 0 ? raw / 2 : -(raw + 1) / 2;
}

function unzigzag(value) {
  return value >= 0 ? value * 2 : -value * 2 - 1;
}

// Text from UTF-8. A byte that belongs to none becomes the code unit 0xDC00 + byte, which goes back as the byte.
function text(b) {
  var out = "", at = 0, first, more, code, n;
  while (at < b.length) {
    first = b[at];
    more = first < 0xc2 ? 0 : first < 0xe0 ? 1 : first < 0xf0 ? 2 : first < 0xf5 ? 3 : 0;
    code = more === 0 ? first : first & (0x3f >> more);
    for (n = 1; n <= more && at + n < b.length && (b[at + n] & 0xc0) === 0x80; n++) {
      code = code * 64 + (b[at + n] & 0x3f);
    }
    if (n <= more || (more === 0 && first > 0x7f) || (more === 2 && (code < 0x800 || (code >= 0xd800 && code < 0xe000))) ||
        (more === 3 && (code < 0x10000 || code > 0x10ffff))) {
      out += String.fromCharCode(0xdc00 + first);
      at += 1;
      continue;
    }
    if (code > 0xffff) {
      out += String.fromCharCode(0xd800 + ((code - 0x10000) >> 10), 0xdc00 + ((code - 0x10000) & 0x3ff));
    } else {
      out += String.fromCharCode(code);
    }
    at += more + 1;
  }
  return out;
}

// A field for ASCII takes no other characters.
function mustBeAscii(value, what) {
  var at;
  for (at = 0; at < value.length; at++) {
    if (value.charCodeAt(at) > 127) {
      throw outOfRange(what, value);
    }
  }
}

// The bytes of text, the reverse of `text`.
function utf8(value, what) {
  var out = [], at, code, next;
  if (typeof value !== "string") {
    throw outOfRange(what, value);
  }
  for (at = 0; at < value.length; at++) {
    code = value.charCodeAt(at);
    next = at + 1 < value.length ? value.charCodeAt(at + 1) : 0;
    if (code >= 0xd800 && code < 0xdc00 && next >= 0xdc00 && next < 0xe000) {
      code = 0x10000 + ((code - 0xd800) << 10) + (next - 0xdc00);
      at += 1;
    }
    if (code < 0x80) {
      out.push(code);
    } else if (code >= 0xdc80 && code < 0xdd00) {
      out.push(code - 0xdc00);
    } else if (code >= 0xd800 && code < 0xe000) {
      throw outOfRange(what, "half of a character");
    } else if (code < 0x800) {
      out.push(0xc0 | (code >> 6), 0x80 | (code & 0x3f));
    } else if (code < 0x10000) {
      out.push(0xe0 | (code >> 12), 0x80 | ((code >> 6) & 0x3f), 0x80 | (code & 0x3f));
    } else {
      out.push(0xf0 | (code >> 18), 0x80 | ((code >> 12) & 0x3f), 0x80 | ((code >> 6) & 0x3f), 0x80 | (code & 0x3f));
    }
  }
  return out;
}

// Text of a fixed size, which zeros fill up.
function paddedText(b) {
  var end = b.length;
  while (end > 0 && b[end - 1] === 0) {
    end -= 1;
  }
  return text(b.slice(0, end));
}

var FLOATS = new DataView(new ArrayBuffer(8));

// A floating-point number (IEEE 754) of 16, 32 or 64 bits from its lower and upper bits.
function floatOf(low, high, width) {
  var exponent, fraction, size;
  if (width === 16) {
    exponent = (low >> 10) & 0x1f;
    fraction = low & 0x3ff;
    size = exponent === 31 ? (fraction === 0 ? Infinity : NaN)
      : exponent === 0 ? fraction * Math.pow(2, -24) : (1024 + fraction) * Math.pow(2, exponent - 25);
    return low & 0x8000 ? -size : size;
  }
  FLOATS.setUint32(0, low, true);
  FLOATS.setUint32(4, high, true);
  return width === 32 ? FLOATS.getFloat32(0, true) : FLOATS.getFloat64(0, true);
}

// The lower and upper bits of a finite number as floating-point number of this width.
function floatRaw(value, width, what) {
  var size = Math.abs(value), exponent, scaled, whole;
  if (typeof value !== "number" || !isFinite(value)) {
    throw outOfRange(what, value);
  }
  if (width === 64) {
    FLOATS.setFloat64(0, value, true);
    return [FLOATS.getUint32(0, true), FLOATS.getUint32(4, true)];
  }
  if (width === 32) {
    FLOATS.setFloat32(0, value, true);
    if (!isFinite(FLOATS.getFloat32(0, true))) {
      throw outOfRange(what, value);
    }
    return [FLOATS.getUint32(0, true), 0];
  }
  if (size >= 65520) {
    throw outOfRange(what, value);
  }
  exponent = 1;
  while (exponent < 30 && size >= Math.pow(2, exponent - 14)) {
    exponent += 1;
  }
  // In steps of the last place; of two that are as near the even one.
  scaled = size / Math.pow(2, exponent - 25);
  whole = Math.floor(scaled);
  if (scaled - whole > 0.5 || (scaled - whole === 0.5 && whole % 2 === 1)) {
    whole += 1;
  }
  whole += (exponent - 1) * 1024;
  return [whole | (value < 0 || 1 / value < 0 ? 0x8000 : 0), 0];
}

function digits(b, from, to) {
  var value = 0, at, digit;
  for (at = from; at < to; at++) {
    digit = "0123456789abcdef".indexOf(String.fromCharCode(b[at]).toLowerCase());
    if (digit < 0) {
      return -1;
    }
    value = value * 16 + digit;
  }
  return value;
}

// Sets hex digits, the most significant one first.
function setDigits(out, at, number, many) {
  var n;
  for (n = many - 1; n >= 0; n--) {
    out[at + n] = "0123456789ABCDEF".charCodeAt(number % 16);
    number = Math.floor(number / 16);
  }
}

function badValue(message) {
  return new LinkError("bad_value", message);
}

function badLength(message) {
  return new LinkError("bad_length", message);
}
