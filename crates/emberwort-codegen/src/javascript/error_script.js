/** Bytes that cannot be read, or a value that cannot be sent; `kind` says why. */
function LinkError(kind, message) {
  var error = Error.call(this, message);
  this.name = "LinkError";
  this.kind = kind;
  this.message = message;
  this.stack = error.stack;
}
LinkError.prototype = Object.create(Error.prototype);
LinkError.prototype.constructor = LinkError;

