"""Steps of a series by a text."""

from __future__ import annotations

from tidal_lens.errors import StudyError


def chosen_steps(text: str, count: int) -> tuple[int, ...]:
    """Which steps of so many a text names.

    Raises
    ------
    StudyError
        It names none, or is not understood.
    """
    said = text.strip().lower()
    if said == "all":
        return tuple(range(count))
    if said == "last":
        return (count - 1,)
    out: list[int] = []
    for part in filter(None, (p.strip() for p in said.split(","))):
        span, _, every = part.partition(":")
        first, dash, last = span.partition("-")
        try:
            a, b, n = int(first or 0), int(last or count - 1) if dash else int(first), int(every or 1)
        except ValueError:
            raise StudyError(f"{part!r} names no steps.", "", "Write all, last, or numbers and ranges such as 0-10:2, 15.") from None
        if n < 1 or b < a:
            raise StudyError(f"{part!r} names no steps.", "", "Write all, last, or numbers and ranges such as 0-10:2, 15.")
        out += [s for s in range(a, min(b + 1, count), n) if s not in out]
    if not out:
        raise StudyError(f"There are {count} steps, and {text!r} names none of them.", "", f"The first is 0, the last {count - 1}.")
    return tuple(out)
