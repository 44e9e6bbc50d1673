"""The one way this program says no: what is wrong, where, and what to do."""

from __future__ import annotations


class Problem(ValueError):
    """Input that cannot be used, told so that a person can mend it.

    Attributes:
        what: one sentence that says what is wrong.
        where: the place: a file and line, or a path into a document; may be empty.
        remedy: what to do about it; may be empty.
    """

    def __init__(self, what: str, where: str = "", remedy: str = "") -> None:
        self.what, self.where, self.remedy = what, where, remedy
        super().__init__(str(self))

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text} {self.remedy}" if self.remedy else text
