"""Reports as files."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from tidal_lens.errors import StudyError
from tidal_lens.scratch import writing
from tidal_lens.study.model import Study
from tidal_lens.study.opened import Opened
from tidal_lens.tell.report import Report, report_of
from tidal_lens.tell.report_docx import docx
from tidal_lens.tell.report_html import html
from tidal_lens.tell.studio import Studio
from tidal_lens.work import Token


def write_report(opened: Opened, study: Study, paths: Sequence[Path], token: Token, *, theme: str = "chart",
                 studio: Studio | None = None) -> list[str]:
    """Write a report as files: ``.html`` and ``.docx`` by their endings, with the same content.

    Returns
    -------
    list of str
        What could not be had, and why.

    Raises
    ------
    StudyError
        An ending is another one, or a file cannot be written.
    """
    writers: dict[str, Callable[[Report], bytes]] = {".html": html, ".docx": docx}
    for path in paths:
        if path.suffix.lower() not in writers:
            raise StudyError(f"Reports are not written as {path.suffix or 'files without an ending'}.", str(path), "Choose html or docx.")
    own = studio or Studio(opened)
    try:
        report = report_of(own, study, token.part(0.0, 0.9), theme=theme)
    finally:
        if studio is None:
            own.close()
    for path in paths:
        body = writers[path.suffix.lower()](report)
        with writing(path, "report", "Choose another folder.") as scratch:
            scratch.write_bytes(body)
    return list(report.troubles)
