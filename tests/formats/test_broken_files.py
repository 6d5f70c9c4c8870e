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


def test_files_cut_off_at_many_places(tmp_path):
    """Every format, cut at its beginning, at its end and between: it is refused, or what is left is whole."""
    from samples import make_samples

    from tidal_lens.errors import TidalLensError
    from tidal_lens.formats.bodies import SUFFIXES, read_body
    from tidal_lens.formats.csv_tables import read_table
    from tidal_lens.formats.registry import open_flow

    opened = refused = 0
    silent = []
    for good in make_samples(tmp_path):
        data = good.read_bytes()
        short = tmp_path / f"short{good.suffix}"
        for part in (0.0, 0.001, 0.03, 0.2, 0.5, 0.8, 0.97, 0.999):
            short.write_bytes(data[: int(part * len(data))])
            try:
                if good.suffix in SUFFIXES:
                    read_body(short)
                elif good.suffix == ".csv":
                    read_table(short)
                else:
                    open_flow(short, anyway=True)
                opened += 1
            except TidalLensError as error:
                refused += 1
                if not (error.what and error.hint):
                    silent.append(f"{good.name} cut at {part}: {error}")
    assert not silent, "\n".join(silent)
    assert refused > 10 * opened


def test_numbers_of_the_wrong_byte_order_are_found_out(tmp_path):
    """A file that says it is big-endian and is not: node numbers and sizes make no sense."""
    import pytest
    from samples import make_samples

    from tidal_lens.errors import FileError
    from tidal_lens.formats.registry import open_flow

    for good in make_samples(tmp_path):
        if good.suffix in (".vtu", ".vts") and "Ascii" not in good.name:
            wrong = tmp_path / f"wrong{good.suffix}"
            wrong.write_bytes(good.read_bytes().replace(b"LittleEndian", b"BigEndian", 1))
            with pytest.raises(FileError):
                open_flow(wrong, anyway=True)
