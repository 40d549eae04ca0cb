// Consistent overhead byte stuffing, with the zero at the end.
function cobs(plain) {
  var out = [1], code = 0, n;
  for (n = 0; n < plain.length; n++) {
    if (plain[n] === 0) {
      code = out.length;
      out.push(1);
      continue;
    }
    out.push(plain[n]);
    out[code] += 1;
    if (out[code] === 0xff && n + 1 < plain.length) {
      code = out.length;
      out.push(1);
    }
  }
  out.push(0);
  return out;
}

function withoutCobs(some) {
  var out = [], end = some.length - 1, at = 0, code, n;
  if (end < 0 || some[end] !== 0) {
    throw badValue("a frame ends with a zero");
  }
  while (at < end) {
    code = some[at];
    if (code === 0 || at + code > end) {
      throw badValue("the code byte " + code + " at " + at + " is wrong");
    }
    for (n = at + 1; n < at + code; n++) {
      if (some[n] === 0) {
        throw badValue("a zero stands at " + n);
      }
      out.push(some[n]);
    }
    at += code;
    if (code < 0xff && at < end) {
      out.push(0);
    }
  }
  return bytesOf(out);
}

function escaped(plain, from, to, escape, codes) {
  var out = [], n;
  for (n = from; n < to; n++) {
    if (codes[plain[n]] === undefined) {
      out.push(plain[n]);
    } else {
      out.push(escape, codes[plain[n]]);
    }
  }
  return out;
}

function unescaped(some, from, to, escape, codes, meanings) {
  var out = [], at = from, byte;
  while (at < to) {
    byte = some[at];
    at += 1;
    if (byte === escape) {
      byte = at < to ? meanings[some[at]] : undefined;
      if (byte === undefined) {
        throw badValue("nothing has the code behind the escape byte at " + (at - 1));
      }
      at += 1;
    } else if (codes[byte] !== undefined) {
      throw badValue("the byte " + byte + " at " + (at - 1) + " stands where it has to be escaped");
    }
    out.push(byte);
  }
  return out;
}
