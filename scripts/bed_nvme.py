"""An NVMe controller of our own for the virtual machine, which the kernel's NVMe driver attaches over TCP.

The emulator's controller counts anew at each start and has no self-tests. This one keeps its counters in a file, so that a second
boot finds the same drive, older: power cycles, unsafe shutdowns, bytes, media errors, the error log and the log of self-tests.
It follows the NVM Express Base Specification 2.0 (registers, admin commands, log pages), the NVM Command Set Specification 1.0
and the NVMe over TCP Transport Specification 1.0; nothing is taken from the decoders that are tested with it.

Python standard library only. One subsystem, one namespace, one host; a thread for each queue.
"""
import json, os, socket, struct, threading, time

NQN = "nqn.2026-01.org.example:bed"
BLOCK = 512
DATA_UNIT = 512_000                     # of SMART: a thousand units of 512 bytes
IN_CAPSULE = 8192
# Completion status fields: status code type << 8 | status code.
INVALID_OPCODE, INVALID_FIELD, LBA_OUT_OF_RANGE, SELF_TEST_IN_PROGRESS = 0x001, 0x002, 0x080, 0x11D
UNRECOVERED_READ, WRITE_FAULT, INVALID_LOG = 0x281, 0x280, 0x109


class Controller:
    """The drive. `bad` is the first LBA that cannot be read, and how many; a short self-test takes `test_s`, an extended one four times
    as long, and fails where LBA `fails` is set."""

    def __init__(self, image, kept, serial, bad=(0, 0), test_s=6.0, fails=None):
        self.file = os.open(image, os.O_RDWR)
        self.blocks = os.fstat(self.file).st_size // BLOCK
        self.kept, self.serial, self.bad, self.test_s, self.fails = kept, serial, bad, test_s, fails
        self.lock = threading.RLock()
        self.cc = 0
        self.test = None                # (kind, begun at)
        self.count = dict(cycles=0, unsafe=0, read=0, written=0, reads=0, writes=0, media=0, minutes=60 * 1000, errors=[], tests=[])
        if os.path.exists(kept):
            with open(kept) as f:
                self.count.update(json.load(f))
        self.count["cycles"] += 1
        if self.count.pop("on", False):
            self.count["unsafe"] += 1   # it went without being told
        self.save()

    def save(self):
        with open(self.kept + ".new", "w") as f:
            json.dump(self.count, f)
        os.replace(self.kept + ".new", self.kept)

    # --- registers (Base Specification, 3.1.3)
    def register(self, at):
        if at == 0x00:                  # CAP: 128 entries, contiguous queues, ready within 10 s, NVM command set
            return 127 | 1 << 16 | 20 << 24 | 1 << 37
        if at == 0x08:                  # VS
            return 0x00010400
        if at == 0x14:
            return self.cc
        if at == 0x1C:                  # CSTS: ready as CC says; shutdown complete where one was asked for
            return (self.cc & 1) | (0b10 << 2 if self.cc >> 14 & 3 else 0)
        return 0

    def set_register(self, at, value):
        if at != 0x14:
            return
        with self.lock:
            if value & 1 and not self.cc & 1:
                self.count["on"] = True
            if value >> 14 & 3:
                self.count["on"] = False
            self.cc = value
            self.save()

    # --- identify (figures 275 and 280 of the Base Specification, figure 97 of the NVM Command Set)
    def identify(self, which):
        d = bytearray(4096)
        if which == 1:
            d[4:24] = self.serial.encode().ljust(20)
            d[24:64] = b"Bed Own NVMe".ljust(40)
            d[64:72] = b"1.0".ljust(8)
            d[77] = 5                                            # MDTS: 128 KiB
            struct.pack_into("<HI", d, 78, 1, 0x00010400)        # CNTLID, VER
            d[111] = 1                                           # an I/O controller
            struct.pack_into("<H", d, 256, 1 << 4)               # OACS: Device Self-test
            d[258], d[259], d[260] = 3, 3, 0b11
            d[262] = 15                                          # ELPE: 16 error entries
            struct.pack_into("<HH", d, 266, 273 + 75, 273 + 85)  # WCTEMP, CCTEMP
            struct.pack_into("<H", d, 316, 1)                    # EDSTT: one minute
            struct.pack_into("<H", d, 320, 10)                   # KAS
            d[512], d[513] = 0x66, 0x44
            struct.pack_into("<HI", d, 514, 128, 1)              # MAXCMD, NN
            struct.pack_into("<I", d, 536, 1 | 1 << 20)          # SGLS, with offsets
            d[768:768 + len(NQN)] = NQN.encode()
            struct.pack_into("<IIHBB", d, 1792, (64 + IN_CAPSULE) // 16, 1, 0, 0, 1)
        elif which == 0:
            struct.pack_into("<QQQ", d, 0, self.blocks, self.blocks, self.blocks)
            d[120:128] = b"\x02BEDNVM1"
            struct.pack_into("<HBB", d, 128, 0, 9, 0)
        elif which == 2:
            struct.pack_into("<I", d, 0, 1)
        elif which == 3:
            d[0:12] = b"\x01\x08\0\0" + b"\x02BEDNVM1"
        else:
            return None
        return bytes(d)

    # --- log pages (5.16.1)
    def log(self, page):
        with self.lock:
            self.advance()
            c = self.count
            if page == 0x02:
                d = bytearray(512)
                struct.pack_into("<BHBBB", d, 0, 0, 273 + 41, 100, 10, 3)
                values = [-(-c["read"] // DATA_UNIT), -(-c["written"] // DATA_UNIT), c["reads"], c["writes"], 7, c["cycles"],
                          c["minutes"] // 60, c["unsafe"], c["media"], len(c["errors"])]
                for i, value in enumerate(values):
                    d[32 + 16 * i:48 + 16 * i] = value.to_bytes(16, "little")
                struct.pack_into("<HH", d, 200, 273 + 41, 273 + 44)
                return bytes(d)
            if page == 0x01:
                newest = c["errors"][-16:][::-1]
                return b"".join(struct.pack("<QHHHHQIB35x", number, 1, 0, status << 1, 0xFFFF, lba, 1, 0)
                                for number, status, lba in newest).ljust(16 * 64, b"\0")
            if page == 0x06:
                d = bytearray(564)
                if self.test:
                    d[0], d[1] = self.test[0], self.done_pct()
                for i, (kind, result, hours, lba) in enumerate(c["tests"][-20:][::-1]):
                    struct.pack_into("<BBBxQIQ", d, 4 + 28 * i, kind << 4 | result, 1 if result else 0, 0b11 if lba is not None else 0, hours,
                                     1 if lba is not None else 0, lba or 0)
                for i in range(len(c["tests"]), 20):
                    d[4 + 28 * i] = 0x0F
                return bytes(d)
            if page == 0x03:
                return (b"\x01" + b"\0" * 7 + b"1.0     ").ljust(512, b"\0")
        return None

    def length(self):
        return self.test_s * (4 if self.test[0] == 2 else 1)

    def done_pct(self):
        return min(99, int(100 * (time.monotonic() - self.test[1]) / self.length()))

    def advance(self):
        """A test whose time has passed has ended."""
        if self.test and time.monotonic() - self.test[1] >= self.length():
            self.end_test(7 if self.fails is not None else 0, self.fails)

    def end_test(self, result, lba=None):
        self.count["tests"].append((self.test[0], result, self.count["minutes"] // 60, lba))
        self.test = None
        self.save()

    def self_test(self, code):
        with self.lock:
            self.advance()
            if code == 0xF:
                if self.test:
                    self.end_test(1)
                return 0
            if code not in (1, 2):
                return INVALID_FIELD
            if self.test:
                return SELF_TEST_IN_PROGRESS
            self.test = (code, time.monotonic())
            return 0

    # --- reads and writes
    def hits(self, lba, count):
        """The first LBA of a range that cannot be read."""
        start, bad = self.bad
        low, high = max(lba, start), min(lba + count, start + bad)
        return low if low < high else None

    def failed(self, status, lba):
        with self.lock:
            self.count["media"] += 1
            number = self.count["errors"][-1][0] + 1 if self.count["errors"] else 1
            self.count["errors"].append((number, status, lba))
            self.save()
        return status

    def io(self, opcode, lba, count, data):
        """Status, and what was read."""
        if lba + count > self.blocks:
            return LBA_OUT_OF_RANGE, b""
        hit = self.hits(lba, count)
        if hit is not None:
            return self.failed(UNRECOVERED_READ if opcode == 2 else WRITE_FAULT, hit), b""
        with self.lock:
            which, commands = ("read", "reads") if opcode == 2 else ("written", "writes")
            self.count[which] += count * BLOCK
            self.count[commands] += 1
        if opcode == 2:
            return 0, os.pread(self.file, count * BLOCK, lba * BLOCK)
        os.pwrite(self.file, data, lba * BLOCK)
        return 0, b""


class Queue(threading.Thread):
    """A connection: one submission and completion queue."""

    def __init__(self, controller, link):
        super().__init__(daemon=True)
        self.c, self.link, self.id, self.head = controller, link, 0, 0
        self.waiting = {}               # command id -> (command, data so far)

    def take(self, n):
        got = bytearray()
        while len(got) < n:
            part = self.link.recv(n - len(got))
            if not part:
                raise ConnectionError
            got += part
        return bytes(got)

    def run(self):
        try:
            while True:
                kind, flags, hlen, offset, length = struct.unpack("<BBBBI", self.take(8))
                rest = self.take(length - 8)
                if kind == 0x00:        # ICReq: no digests
                    self.link.sendall(struct.pack("<BBBBIHBBI112x", 0x01, 0, 128, 0, 128, 0, 0, 0, 1 << 17))
                elif kind == 0x04:
                    self.command(rest[:64], rest[offset - 8:] if length > hlen else b"")
                elif kind == 0x06:
                    cid, _, at, _ = struct.unpack("<HHII", rest[:12])
                    command, data = self.waiting[cid]
                    part = rest[offset - 8:]
                    data[at:at + len(part)] = part
                    if flags & 0x04:
                        del self.waiting[cid]
                        self.finish(command, bytes(data))
                else:
                    return
        except (ConnectionError, OSError):
            pass
        finally:
            self.link.close()
            if self.id == 0:
                with self.c.lock:
                    self.c.save()

    def answer(self, cid, status, result=0, data=b""):
        out = b""
        if data and not status:
            out = struct.pack("<BBBBIHHII4x", 0x07, 0x04, 24, 24, 24 + len(data), cid, 0, 0, len(data)) + data
        self.head = (self.head + 1) % 128
        out += struct.pack("<BBBBIQHHHH", 0x05, 0, 24, 0, 24, result, self.head, self.id, cid, status << 1)
        self.link.sendall(out)

    def command(self, command, data):
        opcode, cid = command[0], struct.unpack_from("<H", command, 2)[0]
        if self.id and opcode == 0x01 and not data:
            length = (struct.unpack_from("<H", command, 48)[0] + 1) * BLOCK
            self.waiting[cid] = (command, bytearray(length))
            self.link.sendall(struct.pack("<BBBBIHHII4x", 0x09, 0, 24, 0, 24, cid, cid, 0, length))
            return
        self.finish(command, data)

    def finish(self, command, data):
        opcode, cid = command[0], struct.unpack_from("<H", command, 2)[0]
        words = struct.unpack("<16I", command)
        if opcode == 0x7F:
            self.fabrics(command, cid, data)
        elif self.id:
            self.io(opcode, cid, words, data)
        elif opcode == 0x06:
            page = self.c.identify(words[10] & 0xFF)
            self.answer(cid, 0 if page else INVALID_FIELD, data=page or b"")
        elif opcode == 0x02:
            page = self.c.log(words[10] & 0xFF)
            want = ((words[10] >> 16 | (words[11] & 0xFFFF) << 16) + 1) * 4
            at = words[12] | words[13] << 32
            self.answer(cid, INVALID_LOG if page is None else 0, data=(page or b"")[at:at + want].ljust(want, b"\0"))
        elif opcode == 0x14:
            self.answer(cid, self.c.self_test(words[10] & 0xF))
        elif opcode == 0x09:            # Set Features: one pair of I/O queues
            self.answer(cid, 0, 0 if words[10] & 0xFF == 7 else words[11])
        elif opcode == 0x0A:
            self.answer(cid, 0, (273 + 75) if words[10] & 0xFF == 4 else 0)
        elif opcode == 0x0C:
            pass                        # an event that never comes
        elif opcode in (0x18, 0x08):    # Keep Alive; Abort, which aborts nothing
            self.answer(cid, 0, 1 if opcode == 0x08 else 0)
        else:
            self.answer(cid, INVALID_OPCODE)

    def io(self, opcode, cid, words, data):
        lba, count = words[10] | words[11] << 32, (words[12] & 0xFFFF) + 1
        if opcode == 0x00:
            self.answer(cid, 0)
        elif opcode in (0x01, 0x02):
            status, read = self.c.io(opcode, lba, count, data)
            self.answer(cid, status, data=read)
        else:
            self.answer(cid, INVALID_OPCODE)

    def fabrics(self, command, cid, data):
        kind = command[4]
        if kind == 0x01:                # Connect
            self.id = struct.unpack_from("<H", command, 42)[0]
            self.answer(cid, 0, 1)
        elif kind == 0x04:
            self.answer(cid, 0, self.c.register(struct.unpack_from("<I", command, 44)[0]))
        elif kind == 0x00:
            at, value = struct.unpack_from("<IQ", command, 44)
            self.c.set_register(at, value)
            self.answer(cid, 0)
        else:
            self.answer(cid, INVALID_OPCODE)


def serve(controller):
    """Listens on a port of the loopback interface, which the machine's own network reaches; the port."""
    listener = socket.create_server(("127.0.0.1", 0))

    def accept():
        while True:
            link, _ = listener.accept()
            link.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            Queue(controller, link).start()

    threading.Thread(target=accept, daemon=True).start()
    return listener.getsockname()[1]
