"""The errors that users can meet: what went wrong, where, and what to do about it."""

from __future__ import annotations


class TidalLensError(Exception):
    """Root of all errors that are meant to be read by a user.

    Parameters
    ----------
    what : str
        What happened and why, one sentence.
    where : str
        File, array, block or field in which it happened; may be empty.
    hint : str
        What to do next; may be empty.
    """

    def __init__(self, what: str, where: str = "", hint: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.hint = hint

    def __str__(self) -> str:
        place = f"{self.where}: " if self.where else ""
        hint = f" {self.hint}" if self.hint else ""
        return f"{place}{self.what}{hint}"


class FileError(TidalLensError):
    """A file is missing, damaged, of another kind, or cannot be written."""


class DoubtfulFlowError(TidalLensError):
    """A result was read, but something that the work relies on is missing or not finite; it may be opened anyway."""


class UnitsError(TidalLensError):
    """It is not known whether two results are in the same units; the user may say so."""


class MissingQuantityError(TidalLensError):
    """A quantity cannot be had from this result."""


class TooManyError(TidalLensError):
    """More was asked for than can be drawn."""


class LostLayerError(TidalLensError):
    """The card that another is made from is gone."""

    def __init__(self, where: str = "") -> None:
        super().__init__("The card that it is made from is gone.", where, "Choose another one, or undo.")


class StudyError(TidalLensError):
    """A study file or a setting in it is not usable."""


class RenderError(TidalLensError):
    """The picture could not be made."""


class CancelledError(TidalLensError):
    """The work was given up because nobody wants its answer any more."""

    def __init__(self) -> None:
        super().__init__("The work was cancelled.")
