

class UnknownMessage(LinkError):
    """No message has the key of the frame."""


class Received(NamedTuple):
    """A frame that was found in a stream, and what it carries: a message, or why its body cannot be read."""

    frame: Any
    message: Any
    error: Optional[LinkError]


class _Receiver:
    """Finds frames in a stream. Every byte belongs to a good frame, an unread one, or is skipped."""

    LIMIT: ClassVar[int]
    _MESSAGES: ClassVar[Dict[int, Type[Any]]]
    #: Whether another frame may stand inside of one whose body cannot be read.
    _LOOKS_INSIDE: ClassVar[bool]

    def __init__(self) -> None:
        self._held = bytearray()
        self._ended = False
        self._skipping = False
        self.good_frames = 0
        self.good_bytes = 0
        self.unread_frames = 0
        self.unread_bytes = 0
        self.bad_checksums = 0
        self.bad_lengths = 0
        self.bad_values = 0
        self.skipped_bytes = 0

    def feed(self, data: bytes) -> List[Received]:
        """Takes bytes, as many as came; gives the frames that are whole with them."""
        raise NotImplementedError

    def gap(self) -> List[Received]:
        """Nothing came for a while: what is half is dropped, and what stands whole in it is given out."""
        raise NotImplementedError

    def _open(self, plain: bytes) -> Any:
        raise NotImplementedError

    def _key(self, frame: Any) -> int:
        raise NotImplementedError

    def _skip(self, count: int) -> None:
        self._held = self._held[count:]
        self.skipped_bytes += count

    def _judge(self, plain: bytes, count: int) -> Optional[Received]:
        try:
            frame = self._open(plain)
        except BadChecksum:
            self.bad_checksums += 1
            return None
        except BadLength:
            self.bad_lengths += 1
            return None
        except LinkError:
            self.bad_values += 1
            return None
        key = self._key(frame)
        found = self._MESSAGES.get(key)
        message: Any = None
        error: Optional[LinkError] = None
        if found is None:
            error = UnknownMessage(f"no message has the key {key:#x}")
        else:
            try:
                message = found.decode(frame.body)
            except LinkError as problem:
                error = problem
        if error is None:
            self.good_frames += 1
            self.good_bytes += count
        else:
            self.unread_frames += 1
            if not self._LOOKS_INSIDE:
                self.unread_bytes += count
        return Received(frame, message, error)

    def _taken(self, found: Received, count: int) -> None:
        # Nothing says of a frame that cannot be read that it is one at all: the next can stand inside of it.
        if found.error is not None and self._LOOKS_INSIDE:
            self._skip(1)
        else:
            self._held = self._held[count:]


class _SearchingReceiver(_Receiver):
    """A frame may begin anywhere."""

    def _find(self) -> List[Received]:
        raise NotImplementedError

    def feed(self, data: bytes) -> List[Received]:
        # In pieces, so that what is held stays short.
        found: List[Received] = []
        for at in range(0, len(data), self.LIMIT):
            self._held += data[at : at + self.LIMIT]
            found += self._find()
        return found

    def gap(self) -> List[Received]:
        self._ended = True
        found = self._find()
        self._ended = False
        return found


class _SyncReceiver(_SearchingReceiver):
    """Frames begin with sync bytes, and say how long they are."""

    _SYNC: ClassVar[bytes]

    def _size(self, frame: bytearray) -> int:
        """How long the frame is: 0 if that cannot be said yet, -1 if it is none."""
        raise NotImplementedError

    def _find(self) -> List[Received]:
        all_found: List[Received] = []
        while self._held:
            if self._SYNC and not self._held.startswith(self._SYNC):
                at = self._held.find(self._SYNC)
                if at < 0:
                    # What stands at the end may be the beginning of the sync bytes.
                    count = min(len(self._held), len(self._SYNC) - 1)
                    while not self._SYNC.startswith(bytes(self._held[len(self._held) - count :])):
                        count -= 1
                    at = len(self._held) - count
                if at > 0:
                    self._skip(at)
                    continue
            size = self._size(self._held)
            if size < 0:
                self._skip(1)
                continue
            if size > 0 and len(self._held) >= size:
                found = self._judge(bytes(self._held[:size]), size)
                if found is None:
                    self._skip(1)
                    continue
                self._taken(found, size)
                all_found.append(found)
                continue
            if not self._ended:
                break
            self._skip(1)
        return all_found


class _IdleReceiver(_Receiver):
    """Silence ends a frame: call gap() after it."""

    def feed(self, data: bytes) -> List[Received]:
        for byte in bytes(data):
            if len(self._held) == self.LIMIT:
                self.bad_lengths += 0 if self._skipping else 1
                self._skip(len(self._held))
                self._skipping = True
            if self._skipping:
                self.skipped_bytes += 1
            else:
                self._held.append(byte)
        return []

    def gap(self) -> List[Received]:
        self._skipping = False
        count = len(self._held)
        if count == 0:
            return []
        found = self._judge(bytes(self._held), count)
        if found is None or found.error is not None and self._LOOKS_INSIDE:
            self.skipped_bytes += count
        self._held = bytearray()
        return [] if found is None else [found]


class _DelimitedReceiver(_Receiver):
    """Frames stand between delimiters, which occur nowhere else."""

    _DELIMITER: ClassVar[int]
    #: Whether a delimiter stands in front of frames, too.
    _LEADS: ClassVar[bool]

    def __init__(self) -> None:
        super().__init__()
        self._lead = 0

    def _plain(self, some: bytes) -> bytes:
        """What stands between delimiters, unstuffed."""
        raise NotImplementedError

    def feed(self, data: bytes) -> List[Received]:
        all_found: List[Received] = []
        for byte in bytes(data):
            found = self._put(byte)
            if found is not None:
                all_found.append(found)
        return all_found

    def gap(self) -> List[Received]:
        self.skipped_bytes += len(self._held) + self._lead
        self._held = bytearray()
        self._lead = 0
        self._skipping = False
        return []

    def _put(self, byte: int) -> Optional[Received]:
        is_end = byte == self._DELIMITER
        if self._LEADS and is_end and not self._held and not self._skipping:
            # Of several delimiters in front of a frame the last.
            self.skipped_bytes += self._lead
            self._lead = 1
            return None
        if len(self._held) + self._lead == self.LIMIT:
            # Too long for a frame: passed over up to its delimiter.
            self.bad_lengths += 0 if self._skipping else 1
            self.skipped_bytes += len(self._held) + self._lead
            self._held = bytearray()
            self._lead = 0
            self._skipping = True
        if self._skipping:
            if self._LEADS and is_end:
                self._lead = 1
            else:
                self.skipped_bytes += 1
            self._skipping = not is_end
            return None
        self._held.append(byte)
        if not is_end:
            return None
        count = len(self._held) + self._lead
        stuffed = bytes(self._held[:-1])
        found = None
        if stuffed:
            try:
                plain = self._plain(stuffed)
            except LinkError:
                self.bad_values += 1
            else:
                found = self._judge(plain, count)
        self._held = bytearray()
        if found is not None:
            self._lead = 0
            return found
        # The delimiter that ended it may begin the next one.
        self.skipped_bytes += count - 1 if self._LEADS else count
        self._lead = 1 if self._LEADS else 0
        return None


class _EscapedReceiver(_SearchingReceiver):
    """Frames begin with sync bytes; in the rest some bytes are escaped."""

    _SYNC: ClassVar[bytes]
    _END: ClassVar[bytes]
    _ESCAPE: ClassVar[int]
    _CODES: ClassVar[Dict[int, bytes]]
    _PLAIN: ClassVar[Dict[int, int]]
    _HEAD: ClassVar[int]

    def __init__(self) -> None:
        super().__init__()
        self._unescaped = bytearray()
        self._read = 0

    def _size(self, frame: bytearray) -> int:
        """How long the plain frame is: 0 if that cannot be said yet, -1 if it is none."""
        raise NotImplementedError

    def _has_wrong_head(self, frame: bytearray) -> bool:
        raise NotImplementedError

    def _skip(self, count: int) -> None:
        super()._skip(count)
        self._read = 0

    def _find(self) -> List[Received]:
        all_found: List[Received] = []
        while self._held:
            seen = bytes(self._held[: len(self._SYNC)])
            if not self._SYNC.startswith(seen):
                self._skip(1)
                continue
            if len(seen) == len(self._SYNC):
                if self._read == 0:
                    self._unescaped[:] = self._SYNC
                    self._read = len(self._SYNC)
                how = self._read_on()
                if how != 0:
                    count, self._read = self._read, 0
                    found = self._judge(bytes(self._unescaped), count) if how > 0 else None
                    if found is None:
                        self._skip(1)
                        continue
                    self._taken(found, count)
                    all_found.append(found)
                    continue
            if not self._ended:
                break
            self._skip(1)
        return all_found

    def _read_on(self) -> int:
        """Reads on in the frame: 1 at its end, 0 if more bytes are needed, -1 if it is none."""
        while True:
            left = bytes(self._held[self._read : self._read + max(2, len(self._END))])
            if self._read + len(self._END) > self.LIMIT:
                self.bad_lengths += 1
                return -1
            if len(self._unescaped) == self._HEAD and self._has_wrong_head(self._unescaped):
                self.bad_values += 1
                return -1
            if self._END:
                if left.startswith(self._END):
                    self._unescaped += self._END
                    self._read += len(self._END)
                    return 1
                if len(left) < len(self._END) and self._END.startswith(left):
                    return 0
            else:
                size = self._size(self._unescaped)
                if size < 0:
                    return -1
                if 0 < size <= len(self._unescaped):
                    return 1
            if not left:
                return 0
            if left[0] not in self._CODES and left[0] != self._ESCAPE:
                self._unescaped.append(left[0])
                self._read += 1
                continue
            if left[0] != self._ESCAPE:
                self.bad_values += 1
                return -1
            if len(left) == 1:
                return 0
            if left[1] not in self._PLAIN:
                self.bad_values += 1
                return -1
            self._unescaped.append(self._PLAIN[left[1]])
            self._read += 2
