"""Tables as solvers and spreadsheets write them."""

import numpy as np
import pytest

from tidal_lens.errors import FileError
from tidal_lens.formats.csv_tables import read_table, write_table


@pytest.mark.parametrize("text", [
    "iteration,residual,CL\n1,1e-1,0.5\n2,1e-2,0.45\n3,1e-3,0.44\n",
    "iteration;residual;CL\n1;1e-1;0.5\n2;1e-2;0.45\n3;1e-3;0.44\n",
    "iteration;residual;CL\n1;0,1;0,5\n2;0,01;0,45\n3;0,001;0,44\n",
    "# a run of the coarse mesh\n# iteration residual CL\n1 1D-1 0.5\n2 1D-2 0.45\n3 1D-3 0.44\n",
    'iteration\tresidual\tCL\n1\t1e-1\t0.5\n2\t1e-2\t0.45\n3\t1e-3\t0.44\n',
    '\ufeff"iteration", "residual", "CL"\r\n1, 1e-1, 0.5\r\n2, 1e-2, 0.45\r\n3, 1e-3, 0.44\r\n',
    "iteration   residual   CL\n  1   1e-1  0.5\n  2   1e-2  0.45\n  3   1e-3  0.44\n  4   1e-",
])
def test_many_spellings_of_one_table(tmp_path, text):
    (tmp_path / "a.csv").write_text(text, encoding="utf-8")
    table = read_table(tmp_path / "a.csv")
    assert table.names == ("iteration", "residual", "CL")
    np.testing.assert_allclose(table.columns, [[1, 0.1, 0.5], [2, 0.01, 0.45], [3, 0.001, 0.44]])
    np.testing.assert_allclose(table.column("CL"), [0.5, 0.45, 0.44])


def test_columns_of_words_are_left_out_and_names_are_made_distinct(tmp_path):
    (tmp_path / "a.csv").write_text("t,name,t\n1,one,5\n2,two,6\n")
    table = read_table(tmp_path / "a.csv")
    assert table.names == ("t", "t 2")
    np.testing.assert_allclose(table.columns, [[1, 5], [2, 6]])


@pytest.mark.parametrize("text", ["", "# only remarks\n", "only,words\nand,words\n", "\0\0\0\1"])
def test_what_is_no_table(tmp_path, text):
    (tmp_path / "a.csv").write_text(text)
    with pytest.raises(FileError, match="no numbers"):
        read_table(tmp_path / "a.csv")


def test_what_is_written_comes_back(tmp_path):
    write_table(tmp_path / "a.csv", [["wall, lower", "in"], [1.0, 2.25], [1e-12, -3.5]])
    table = read_table(tmp_path / "a.csv")
    assert table.names == ("wall, lower", "in")
    np.testing.assert_allclose(table.columns, [[1.0, 2.25], [1e-12, -3.5]])
    with pytest.raises(FileError, match="could not be written"):
        write_table(tmp_path / "none" / "a.csv", [["a"]])
