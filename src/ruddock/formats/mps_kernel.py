# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The COLUMNS section of a free-form MPS file, byte by byte.

Lines are split at blanks; row names are found in a hash table; numbers of up to 15 digits are exact as a
whole number times or divided by a power of ten up to 22, all others are left to Python. Whatever is odd
stops the scan: the reader then goes through the lines one by one to say what and where.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

NEWLINE = cython.declare(cython.int, 10)
RETURN = cython.declare(cython.int, 13)
TAB = cython.declare(cython.int, 9)
BLANK = cython.declare(cython.int, 32)
STAR = cython.declare(cython.int, 42)
QUOTE = cython.declare(cython.int, 39)
TOO_LARGE = cython.declare(cython.double, 1e30)


class ColumnScanner:
    """Scans one section into arrays.

    Parameters
    ----------
    content : bytes, ending with a line end
    names : list of bytes, the row names
    lines : int, an upper limit of the section's lines (of which unused room costs nothing)
    """

    def __init__(self, content, names, lines):
        k: cython.int
        slot: cython.int
        size: cython.int = 4
        count: cython.int = len(names)
        self.text = np.frombuffer(content, np.uint8)
        self.size = len(content)
        self.names = np.frombuffer(b"".join(names) + b"\0", np.uint8)
        lengths = np.fromiter(map(len, names), np.int64, count)
        self.name_begin = np.concatenate(([0], np.cumsum(lengths))).astype(np.int32)
        while size < 3 * count:
            size *= 2
        self.mask = size - 1
        self.table = np.full(size, -1, np.int32)
        for k in range(count):
            slot = self._hash(self.names, self.name_begin[k], self.name_begin[k + 1]) & self.mask
            while self.table[slot] >= 0:
                slot = (slot + 1) & self.mask
            self.table[slot] = k
        self.entries = self.columns = 0
        self.rows, self.values = np.empty(2 * lines + 2, np.int32), np.empty(2 * lines + 2)
        self.starts, self.name_at = np.empty(lines + 2, np.int32), np.empty(lines + 2, np.int64)
        self.name_length, self.integer = np.empty(lines + 2, np.int32), np.empty(lines + 2, np.int8)
        self.last_owner = np.full(count + 1, -1, np.int32)
        self.owner = -1  # what entries are read for: a column, or below -1 a block of right sides
        self.powers = 10.0 ** np.arange(23)
        self.begin = self.end = 0
        self.number = 0.0

    def scan(self, start, stop):
        """Scan the lines between two places; return -1, or the place of the first odd line."""
        result: cython.longlong
        first: cython.longlong = start
        last: cython.longlong = stop
        with cython.nogil:
            result = self._scan(first, last)
        return result

    def scan_sides(self, start, stop):
        """Scan the lines of right sides or ranges; return their rows and numbers, or None if a line is odd."""
        result: cython.longlong
        begin: cython.int = self.entries
        first: cython.longlong = start
        last: cython.longlong = stop
        self.owner = self.owner - 1 if self.owner < -1 else -2
        with cython.nogil:
            result = self._scan_sides(first, last)
        end = self.entries
        self.entries = begin
        if result >= 0:
            return None
        return np.array(self.rows[begin:end]), np.array(self.values[begin:end])

    def column_names(self):
        """Return the names of the columns in order, as bytes with line ends between them."""
        j: cython.int
        k: cython.int
        at: cython.longlong = 0
        size: cython.longlong = 0
        for j in range(self.columns):
            size += self.name_length[j] + 1
        result = np.empty(max(size, 1), np.uint8)
        target: cython.uchar[::1] = result
        for j in range(self.columns):
            for k in range(self.name_length[j]):
                target[at + k] = self.text[self.name_at[j] + k]
            at += self.name_length[j]
            target[at] = NEWLINE
            at += 1
        return result[: max(at - 1, 0)].tobytes()

    def _hash(self, text, begin, end):
        """Return a hash of a name."""
        k: cython.longlong
        h: cython.longlong = 7
        for k in range(begin, end):
            h = (h * 31 + text[k]) & 0x3FFFFFFF
        return h ^ (h >> 15)

    def _find(self, begin, end):
        """Return the number of the row called so, or -1."""
        k: cython.longlong
        row: cython.int
        length: cython.longlong = end - begin
        first: cython.longlong
        same: cython.bint
        slot: cython.int = self._hash(self.text, begin, end) & self.mask
        while True:
            row = self.table[slot]
            if row < 0:
                return -1
            first = self.name_begin[row]
            if self.name_begin[row + 1] - first == length:
                same = True
                for k in range(length):
                    if self.text[begin + k] != self.names[first + k]:
                        same = False
                        break
                if same:
                    return row
            slot = (slot + 1) & self.mask

    def _same(self, a, b, length):
        """Say whether two stretches of the text are equal."""
        k: cython.longlong
        for k in range(length):
            if self.text[a + k] != self.text[b + k]:
                return False
        return True

    def _token(self, at, stop):
        """Find the next token of the line from ``at`` on; False at the line's end."""
        while at < stop and (self.text[at] == BLANK or self.text[at] == TAB or self.text[at] == RETURN):
            at += 1
        if at >= stop or self.text[at] == NEWLINE:
            self.begin = self.end = at
            return False
        self.begin = at
        while at < stop and self.text[at] > BLANK:
            at += 1
        self.end = at
        return True

    def _parse(self):
        """Turn the token into a number; False if it is none, or not finite."""
        at: cython.longlong = self.begin
        digits: cython.int = 0
        shift: cython.int = 0
        power: cython.int = 0
        sign: cython.int = 1
        negative: cython.bint = False
        point: cython.bint = False
        seen: cython.bint = False
        simple: cython.bint = True
        mantissa: cython.longlong = 0
        c: cython.int
        if self.text[at] == 45 or self.text[at] == 43:
            negative = self.text[at] == 45
            at += 1
        while at < self.end:
            c = self.text[at]
            if 48 <= c <= 57:
                seen = True
                if digits or c != 48:
                    digits += 1
                if digits <= 15:
                    mantissa = mantissa * 10 + (c - 48)
                else:
                    simple = False
                if point:
                    shift += 1
            elif c == 46 and not point:
                point = True
            else:
                break
            at += 1
        if seen and at < self.end and (self.text[at] == 101 or self.text[at] == 69):
            at += 1
            if at < self.end and (self.text[at] == 45 or self.text[at] == 43):
                sign = -1 if self.text[at] == 45 else 1
                at += 1
            seen = False
            while at < self.end and 48 <= self.text[at] <= 57 and power < 10000:
                power = power * 10 + (self.text[at] - 48)
                seen = True
                at += 1
        power = sign * power - shift
        if seen and at == self.end and simple and -22 <= power <= 22:
            self.number = mantissa * self.powers[power] if power >= 0 else mantissa / self.powers[-power]
            if negative:
                self.number = -self.number
        else:
            with cython.gil:
                try:
                    self.number = float(bytes(self.text[self.begin : self.end]))
                except ValueError:
                    return False
        return abs(self.number) < TOO_LARGE

    def _scan(self, at, stop):
        """Scan line by line."""
        line: cython.longlong
        inside: cython.int = 0
        kind: cython.int
        last: cython.int
        while at < stop:
            line = at
            self.end = at
            if self.text[at] == STAR or not self._token(at, stop):
                pass
            else:
                kind = self._marker(stop)
                if kind < 0:
                    return line
                if kind > 0:
                    inside = kind - 1
                else:
                    last = self.columns - 1
                    if last < 0 or not (
                        self.name_length[last] == self.end - self.begin
                        and self._same(self.name_at[last], self.begin, self.end - self.begin)
                    ):
                        last = self.columns
                        self.columns += 1
                        self.name_at[last] = self.begin
                        self.name_length[last] = self.end - self.begin
                        self.starts[last] = self.entries
                        self.integer[last] = inside
                    self.owner = last
                    if not self._pairs(stop):
                        return line
            at = self.end
            while at < stop and self.text[at] != NEWLINE:
                at += 1
            at += 1
        self.starts[self.columns] = self.entries
        return -1

    def _scan_sides(self, at, stop):
        """Scan line by line: the name of the one set, then pairs of row and number."""
        line: cython.longlong
        set_at: cython.longlong = -1
        length: cython.longlong = 0
        while at < stop:
            line = at
            self.end = at
            if self.text[at] != STAR and self._token(at, stop):
                if set_at < 0:
                    set_at = self.begin
                    length = self.end - self.begin
                if self.end - self.begin != length or not self._same(set_at, self.begin, length):
                    return line
                if self.entries + 2 >= self.rows.shape[0] or not self._pairs(stop):
                    return line
            at = self.end
            while at < stop and self.text[at] != NEWLINE:
                at += 1
            at += 1
        return -1

    def _marker(self, stop):
        """Return 0 for a plain line, 1 where whole numbers end, 2 where they begin, -1 for an odd marker.

        The token found stays the line's first.
        """
        begin: cython.longlong = self.begin
        end: cython.longlong = self.end
        result: cython.int = 0
        if self._token(end, stop) and self.text[self.begin] == QUOTE and self.text[self.begin + 1] == 77:  # 'M
            result = -1
            if self._token(self.end, stop) and self.end - self.begin == 8:
                if self.text[self.begin + 4] == 79 and self.text[self.begin + 5] == 82:  # 'INTORG'
                    result = 2
                elif self.text[self.begin + 4] == 69 and self.text[self.begin + 5] == 78:  # 'INTEND'
                    result = 1
        self.begin = begin
        self.end = end
        return result

    def _pairs(self, stop):
        """Read the one or two pairs of row and number after a column's name; False if they are odd."""
        count: cython.int
        row: cython.int
        for count in range(2):
            if not self._token(self.end, stop):
                return count == 1
            row = self._find(self.begin, self.end)
            if row < 0 or self.last_owner[row] == self.owner:
                return False  # unknown, or a second entry
            self.last_owner[row] = self.owner
            if not self._token(self.end, stop) or not self._parse():
                return False
            self.rows[self.entries] = row
            self.values[self.entries] = self.number
            self.entries += 1
        return not self._token(self.end, stop)
