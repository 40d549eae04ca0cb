/** Bytes that cannot be read, or a value that cannot be sent; `kind` says why. */
class LinkError extends Error {
  constructor(kind, message) {
    super(message);
    this.name = "LinkError";
    this.kind = kind;
  }
}

function bytesOf(some) {
  return new Uint8Array(some);
}

// Sets members that are there; one of another name is a mistake.
function assign(to, values) {
  for (const name of Object.keys(values)) {
    if (!Object.prototype.hasOwnProperty.call(to, name)) {
      throw new LinkError("out_of_range", to.constructor.name + " has no " + name);
    }
    to[name] = values[name];
  }
}
