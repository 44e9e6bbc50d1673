"""Scanning OBJ text as bytes: where the lines are, and the numbers in them.

A line ends at LF, CR or both. A number of up to 15 digits and a small power of ten is read here,
exactly as the language reads it: both are whole in float64, so one product or quotient is rounded
right (Clinger 1990). Any other is marked `odd` and read by Python afterwards.
"""

from __future__ import annotations

import numpy as np

from zembrik.core.compiled import kernel

SPACE, TAB, LF, CR, PLUS, MINUS, DOT, SLASH, HASH = 32, 9, 10, 13, 43, 45, 46, 47, 35
LETTER_V, LETTER_F, LETTER_G, LETTER_O, E_LOW, E_HIGH = 118, 102, 103, 111, 101, 69
NO_FAULT, NO_NUMBER, NO_POINT, TOO_FEW = range(4)
MOST_DIGITS, MOST_POWER = 15, 22
POWERS = 10.0 ** np.arange(MOST_POWER + 1)


@kernel
def _line_end(text, i):  # type: ignore[no-untyped-def]
    while i < len(text) and text[i] != LF and text[i] != CR:
        i += 1
    return i


@kernel
def _next_line(text, i):  # type: ignore[no-untyped-def]
    """Return where the line after the one that ends at i begins."""
    if i + 1 < len(text) and text[i] == CR and text[i + 1] == LF:
        return i + 2
    return i + 1


@kernel
def _is_gap(c):  # type: ignore[no-untyped-def]
    return c in (SPACE, TAB, 11, 12)


@kernel
def _skip_gap(text, i, end):  # type: ignore[no-untyped-def]
    while i < end and _is_gap(text[i]):
        i += 1
    return i


@kernel
def _skip_word(text, i, end):  # type: ignore[no-untyped-def]
    while i < end and not _is_gap(text[i]):
        i += 1
    return i


@kernel
def _begin(text):  # type: ignore[no-untyped-def]
    """Return where the text begins, after a byte order mark."""
    return 3 if len(text) > 2 and text[0] == 0xEF and text[1] == 0xBB and text[2] == 0xBF else 0


@kernel
def _kind(text, i, end):  # type: ignore[no-untyped-def]
    """Return the letter of a line that has one letter and then a gap, from i to end; 0 for any other."""
    return text[i] if i < end and (i + 1 == end or _is_gap(text[i + 1])) else 0


@kernel
def count_lines(text):  # type: ignore[no-untyped-def]
    """Return how many points, corners of faces, faces and names there are at most."""
    points, corners, faces, names, i = 0, 0, 0, 0, _begin(text)
    while i < len(text):
        end = _line_end(text, i)
        i = _skip_gap(text, i, end)
        kind = _kind(text, i, end)
        if kind == LETTER_V:
            points += 1
        elif kind == LETTER_F:
            faces += 1
            i = _skip_gap(text, i + 1, end)
            while i < end:
                corners += 1
                i = _skip_gap(text, _skip_word(text, i, end), end)
        elif kind in (LETTER_G, LETTER_O):
            names += 1
        i = _next_line(text, end)
    return points, corners, faces, names


@kernel
def _number(text, i, end):  # type: ignore[no-untyped-def]
    """Return (whether it was read, the number, where its word ends)."""
    sign, digits, whole, shift, any_digit = 1.0, 0, np.int64(0), 0, False
    if i < end and (text[i] == PLUS or text[i] == MINUS):
        sign = -1.0 if text[i] == MINUS else 1.0
        i += 1
    fraction = False
    while i < end:
        c = text[i]
        if 48 <= c <= 57:
            any_digit = True
            if digits or c != 48:
                digits += 1
            if digits <= MOST_DIGITS:
                whole = 10 * whole + (c - 48)
                shift -= 1 if fraction else 0
        elif c == DOT and not fraction:
            fraction = True
        else:
            break
        i += 1
    power, ok = 0, any_digit and digits <= MOST_DIGITS
    if i < end and (text[i] == E_LOW or text[i] == E_HIGH):
        i += 1
        down = i < end and text[i] == MINUS
        if i < end and (text[i] == PLUS or text[i] == MINUS):
            i += 1
        ok = ok and i < end and 48 <= text[i] <= 57
        while i < end and 48 <= text[i] <= 57:
            power = min(10 * power + (text[i] - 48), 1000)
            i += 1
        power = -power if down else power
    power += shift
    ok = ok and (i == end or _is_gap(text[i])) and -MOST_POWER <= power <= MOST_POWER
    value = 0.0
    if ok:
        value = sign * (whole * POWERS[power] if power >= 0 else whole / POWERS[-power])
    return ok, value, i


@kernel
def scan_points(text, values, line, odd, span):  # type: ignore[no-untyped-def]
    """Fill points (n, 3), their lines (n,) from 1, which are odd (n,), and where their lines begin and end (n, 2)."""
    row, number, i = 0, 0, _begin(text)
    while i < len(text):
        end, number = _line_end(text, i), number + 1
        i = _skip_gap(text, i, end)
        if _kind(text, i, end) == LETTER_V:
            line[row], span[row, 0], span[row, 1] = number, i, end
            i += 1
            for k in range(3):
                ok, value, i = _number(text, _skip_gap(text, i, end), end)
                values[row, k] = value
                if not ok:
                    odd[row] = True
                    break
            row += 1
        i = _next_line(text, end)


@kernel
def scan_faces(text, count, sizes, corner, named):  # type: ignore[no-untyped-def]
    """Fill the faces' sizes (p,) and corners from 0, and where names begin and end (g, 2).

    Returns (what is wrong, in which line from 1, and where in the text it begins and ends).
    """
    face, filled, name, seen, number, i = 0, 0, 0, 0, 0, _begin(text)
    while i < len(text):
        end, number = _line_end(text, i), number + 1
        i = _skip_gap(text, i, end)
        kind, begin = _kind(text, i, end), i
        if kind == LETTER_V:
            seen += 1
        elif kind in (LETTER_G, LETTER_O):
            begin = _skip_gap(text, i + 1, end)
            if begin < end:
                named[name, 0], named[name, 1] = begin, end
                name += 1
        elif kind == LETTER_F:
            size, i = 0, _skip_gap(text, i + 1, end)
            while i < end and text[i] != HASH:
                word, stop = i, _skip_word(text, i, end)
                back = text[i] == MINUS
                if text[i] == MINUS or text[i] == PLUS:
                    i += 1
                index, digits = np.int64(0), 0
                while i < stop and 48 <= text[i] <= 57:
                    index, digits = min(10 * index + (text[i] - 48), np.int64(1 << 40)), digits + 1
                    i += 1
                if digits == 0 or (i < stop and text[i] != SLASH):
                    return NO_NUMBER, number, word, stop
                place = seen - index if back else index - 1
                if index == 0 or place < 0 or place >= count:
                    return NO_POINT, number, word, stop
                corner[filled] = place
                filled, size, i = filled + 1, size + 1, _skip_gap(text, stop, end)
            if size < 3:
                return TOO_FEW, number, begin, end
            sizes[face] = size
            face += 1
        i = _next_line(text, end)
    return NO_FAULT, 0, 0, 0
