# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The COLUMNS section of a free-form MPS file, byte by byte.

Lines are split at blanks; row names are found in a hash table, hashed while their end is searched; numbers
of up to 15 digits are exact as a integer times or divided by a power of ten up to 22, all others are
left to Python. Whatever is odd stops the scan: the reader then goes through the lines one by one to say
what and where.
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
    """Scans one section into arrays that are those of a matrix column by column.

    Parameters
    ----------
    content : bytes
    names : bytes, the row names with a line end after each; the objective's last
    lines : int, an upper limit of the section's lines (of which unused room costs nothing)
    objective : bool, whether the last name is an objective's, whose entries go to ``costs``
    """

    def __init__(self, content, names, lines, objective):
        k: cython.int
        slot: cython.int
        self.text, self.names = np.frombuffer(content, np.uint8), np.frombuffer(names + b"\n", np.uint8)
        ends = np.flatnonzero(np.asarray(self.names) == NEWLINE)[:-1]
        count: cython.int = len(ends)
        self.name_begin = np.concatenate(([0], ends + 1)).astype(np.int32)
        size = 4
        while size < 2 * count:
            size *= 2
        self.mask = size - 1
        self.table, self.keys = np.full(size, -1, np.int32), np.zeros(count + 1, np.uint64)
        for k in range(count):
            self._token(cython.address(self.names[0]), self.name_begin[k], self.name_begin[k + 1])
            slot = self.hashed & self.mask
            while self.table[slot] >= 0:
                slot = (slot + 1) & self.mask
            self.table[slot], self.keys[k] = k, self.key
        self.objective = count - 1 if objective else -1
        self.entries = self.columns = 0
        self.rows, self.values = np.empty(2 * lines + 2, np.int32), np.empty(2 * lines + 2)
        self.starts, self.name_at = np.empty(lines + 2, np.int32), np.empty(lines + 2, np.int64)
        self.name_length, self.integer = np.empty(lines + 2, np.int32), np.empty(lines + 2, np.int8)
        self.costs = np.zeros(lines + 2)
        self.owner = self.costed = -1  # the column that is read, and the last one with a cost
        self.powers = 10.0 ** np.arange(23)
        self.complete = False
        self.begin = self.end = 0
        self.hashed = 0
        self.number = 0.0

    def scan(self, start):
        """Scan from ``start`` on; return the place of the next heading, or of the first odd line.

        ``complete`` says whether it is a heading, or the end.
        """
        result: cython.longlong
        first: cython.longlong = start
        with cython.nogil:
            result = self._scan(cython.address(self.text[0]), self.text.shape[0], first)
        return result

    def scan_sides(self, start, stop):
        """Scan the lines of right sides or ranges; return their rows and numbers, or None if a line is odd."""
        result: cython.longlong
        begin: cython.int = self.entries
        first: cython.longlong = start
        last: cython.longlong = stop
        self.owner = -1
        with cython.nogil:
            result = self._scan_sides(cython.address(self.text[0]), first, last)
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

    def names_differ(self):
        """Say whether no name of a column stands twice."""
        j: cython.int
        other: cython.int
        slot: cython.int
        size: cython.int = 4
        while size < 3 * self.columns:
            size *= 2
        table: cython.int[::1] = np.full(size, -1, np.int32)
        for j in range(self.columns):
            self._token(cython.address(self.text[0]), self.name_at[j], self.name_at[j] + self.name_length[j])
            slot = self.hashed & (size - 1)
            other = table[slot]
            while other >= 0:
                if self.name_length[other] == self.name_length[j] and self._same(
                    cython.address(self.text[0]), self.name_at[other], self.name_at[j], self.name_length[j]
                ):
                    return False
                slot = (slot + 1) & (size - 1)
                other = table[slot]
            table[slot] = j
        return True

    def _find(self, text):
        """Return the number of the row that the token names, or -1."""
        slot: cython.int = self.hashed & self.mask
        row: cython.int = self.table[slot]
        while row >= 0 and not (self.keys[row] == self.key and self._named(text, row)):
            slot = (slot + 1) & self.mask
            row = self.table[slot]
        return row

    def _named(self, text, row):
        """Say whether the token, whose last 8 bytes are those of the row's name, is that name."""
        k: cython.longlong
        first: cython.longlong
        length: cython.longlong = self.end - self.begin
        if length < 8:
            return True
        first = self.name_begin[row]
        if self.name_begin[row + 1] - first - 1 != length:
            return False
        for k in range(length):
            if text[self.begin + k] != self.names[first + k]:
                return False
        return True

    def _same(self, text, a, b, length):
        """Say whether two stretches of the text are equal."""
        k: cython.longlong
        for k in range(length):
            if text[a + k] != text[b + k]:
                return False
        return True

    def _token(self, text, at, stop):
        """Find the next token of the line from ``at`` on, its hash and its last 8 bytes; False at the line's end."""
        h: cython.uint = 7
        key: cython.ulonglong = 0
        while at < stop and (text[at] == BLANK or text[at] == TAB or text[at] == RETURN):
            at += 1
        self.begin = at
        if at >= stop or text[at] == NEWLINE:
            self.end = at
            return False
        while at < stop and text[at] > BLANK:
            h = h * 31 + text[at]
            key = (key << 8) | text[at]
            at += 1
        self.end, self.key = at, key
        # the low bits depend on all, so that names that count up do not crowd together
        h = h * 0x61C88647
        self.hashed = (h ^ (h >> 15)) & 0x7FFFFFFF
        return True

    def _number(self, text, at, stop):
        """Read the next token of the line as a number; False if there is none, or it is not finite."""
        digits: cython.int = 0
        shift: cython.int = 0
        power: cython.int = 0
        sign: cython.int = 1
        negative: cython.bint = False
        point: cython.bint = False
        seen: cython.bint = False
        mantissa: cython.longlong = 0
        c: cython.int = 0
        while at < stop and (text[at] == BLANK or text[at] == TAB or text[at] == RETURN):
            at += 1
        self.begin = at
        if at < stop and (text[at] == 45 or text[at] == 43):
            negative = text[at] == 45
            at += 1
        while at < stop:
            c = text[at]
            if 48 <= c <= 57:
                seen = True
                if digits or c != 48:
                    digits += 1
                if digits <= 15:
                    mantissa = mantissa * 10 + (c - 48)
                if point:
                    shift += 1
            elif c == 46 and not point:
                point = True
            else:
                break
            at += 1
        if seen and at < stop and (c == 101 or c == 69):
            at += 1
            if at < stop and (text[at] == 45 or text[at] == 43):
                sign = -1 if text[at] == 45 else 1
                at += 1
            seen = False
            while at < stop and 48 <= text[at] <= 57 and power < 10000:
                power = power * 10 + (text[at] - 48)
                seen = True
                at += 1
        power = sign * power - shift
        if seen and (at >= stop or text[at] <= BLANK) and digits <= 15 and -22 <= power <= 22:
            self.end = at
            self.number = mantissa * self.powers[power] if power >= 0 else mantissa / self.powers[-power]
            if negative:
                self.number = -self.number
            return self.number < TOO_LARGE and self.number > -TOO_LARGE
        return self._token(text, self.begin, stop) and self._other_number()

    def _other_number(self):
        """Turn the token into a number by Python's own reading, which rounds rightly; False if it is none."""
        with cython.gil:
            try:
                self.number = float(bytes(self.text[self.begin : self.end]))
            except ValueError:
                return False
        return abs(self.number) < TOO_LARGE

    def _scan(self, text, stop, at):
        """Scan line by line."""
        line: cython.longlong
        inside: cython.int = 0
        kind: cython.int
        while at < stop:
            line = at
            self.end = at
            if text[at] > BLANK and text[at] != STAR:
                break
            if self._goes_on(text, at, stop):
                if not self._pairs(text, stop):
                    return line
            elif text[at] != STAR and self._token(text, at, stop):
                kind = self._marker(text, stop)
                if kind < 0:
                    return line
                if kind > 0:
                    inside = kind - 1
                else:
                    self._open_column(text, inside)
                    if not self._pairs(text, stop):
                        return line
            at = self.end
            while at < stop and text[at] != NEWLINE:
                at += 1
            at += 1
        self.starts[self.columns] = self.entries
        self.complete = True
        return min(at, stop)

    def _goes_on(self, text, at, stop):
        """Say whether the line plainly goes on with the column before; its name then is the token found."""
        end: cython.longlong
        if self.owner < 0 or text[at] != BLANK:
            return False
        end = at + 1 + self.name_length[self.owner]
        if end + 1 >= stop or text[end] != BLANK or text[end + 1] <= BLANK or text[end + 1] == QUOTE:
            return False
        if not self._same(text, self.name_at[self.owner], at + 1, end - at - 1):
            return False
        self.end = end
        return True

    def _open_column(self, text, inside):
        """Begin a column named by the token, unless it is the one before."""
        length: cython.int = self.end - self.begin
        if (
            self.owner >= 0
            and self.name_length[self.owner] == length
            and self._same(text, self.name_at[self.owner], self.begin, length)
        ):
            return
        self.owner = self.columns
        self.columns += 1
        self.name_at[self.owner] = self.begin
        self.name_length[self.owner] = length
        self.starts[self.owner] = self.entries
        self.integer[self.owner] = inside

    def _scan_sides(self, text, at, stop):
        """Scan line by line: the name of the one set, then pairs of row and number."""
        line: cython.longlong
        set_at: cython.longlong = -1
        length: cython.longlong = 0
        while at < stop:
            line = at
            self.end = at
            if text[at] != STAR and self._token(text, at, stop):
                if set_at < 0:
                    set_at = self.begin
                    length = self.end - self.begin
                if self.end - self.begin != length or not self._same(text, set_at, self.begin, length):
                    return line
                if self.entries + 2 >= self.rows.shape[0] or not self._pairs(text, stop):
                    return line
            at = self.end
            while at < stop and text[at] != NEWLINE:
                at += 1
            at += 1
        return -1

    def _marker(self, text, stop):
        """Return 0 for a plain line, 1 where integers end, 2 where they begin, -1 for an odd marker.

        The token found stays the line's first.
        """
        begin: cython.longlong = self.begin
        end: cython.longlong = self.end
        result: cython.int = 0
        if end + 1 < stop and text[end + 1] > BLANK and text[end + 1] != QUOTE:
            return 0  # mostly one blank and a name follow
        if self._token(text, end, stop) and text[self.begin] == QUOTE and text[self.begin + 1] == 77:  # 'M
            result = -1
            if self._token(text, self.end, stop) and self.end - self.begin == 8:
                if text[self.begin + 4] == 79 and text[self.begin + 5] == 82:  # 'INTORG'
                    result = 2
                elif text[self.begin + 4] == 69 and text[self.begin + 5] == 78:  # 'INTEND'
                    result = 1
        self.begin = begin
        self.end = end
        return result

    def _pairs(self, text, stop):
        """Read the one or two pairs of row and number after a column's name; False if they are odd."""
        count: cython.int
        row: cython.int
        for count in range(2):
            if not self._token(text, self.end, stop):
                return count == 1
            row = self._find(text)
            if row < 0 or not self._number(text, self.end, stop):
                return False
            if row == self.objective and self.owner >= 0:
                if self.costed == self.owner:
                    return False  # a second cost
                self.costed = self.owner
                self.costs[self.owner] = self.number
            else:
                self.rows[self.entries] = row
                self.values[self.entries] = self.number
                self.entries += 1
        return not self._token(text, self.end, stop)
