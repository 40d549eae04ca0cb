/** Why something cannot be read or sent. */
export type LinkErrorKind =
  | "truncated"
  | "too_many"
  | "out_of_range"
  | "no_form"
  | "bad_number"
  | "bad_length"
  | "bad_checksum"
  | "bad_value"
  | "unknown_message";

/** Bytes that cannot be read, or a value that cannot be sent; `kind` says why. */
export class LinkError extends Error {
  constructor(kind: LinkErrorKind, message: string);
  kind: LinkErrorKind;
}

/** A message of any kind. */
export interface Message {
  sectionsHeld: number;
  encode(): Uint8Array;
}

/** The class of a message. */
export interface MessageClass {
  new (): Message;
  decode(body: Uint8Array, key?: number): Message;
}

/** A frame that was found in a stream, and what it carries: a message, or why its body cannot be read. */
export interface Received<Frame> {
  frame: Frame;
  message: Message | null;
  error: LinkError | null;
}

/** Finds frames in a stream. Every byte belongs to a good frame, an unread one, or is skipped. */
export class Receiver<Frame> {
  /** Takes bytes, as many as came; returns the frames that are whole with them. */
  feed(data: Uint8Array): Array<Received<Frame>>;
  /** Nothing came for a while: what is half is dropped, and what stands whole in it is returned. */
  gap(): Array<Received<Frame>>;
  goodFrames: number;
  goodBytes: number;
  unreadFrames: number;
  unreadBytes: number;
  badChecksums: number;
  badLengths: number;
  badValues: number;
  skippedBytes: number;
}
