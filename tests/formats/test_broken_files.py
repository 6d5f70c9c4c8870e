"""A short run over broken files of every format; the long one is ``python tests/fuzz/run.py --count 30000``."""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "fuzz"))


def test_broken_files_open_or_are_refused_with_a_message():
    from run import fuzz

    found, bad = fuzz(300, 7, lambda _line: None)
    assert not bad, "\n".join(bad)
    assert sum(found.values()) == 300
    assert found["refused"] > 100
