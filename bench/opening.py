"""How long large results take to open, against VTK's plain read of the same file: ``python bench/opening.py [--cells 10]``.

Each side runs in a process of its own, in turn. Ours goes on to the first picture's geometry: boundaries, walls, one slice and its
colours. Memory is the greatest resident set beyond what the process took before it began.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

HERE = Path(__file__).resolve().parent


def lattice(n: int, low: float = 0.0) -> np.ndarray[Any, Any]:
    i = np.linspace(0, 1, n)
    z, y, x = (a.ravel() for a in np.meshgrid(i, i, i, indexing="ij"))
    return np.column_stack([x + low, y, z])


def fill(data: Any, p: np.ndarray[Any, Any]) -> None:
    from vtkmodules.util.numpy_support import numpy_to_vtk

    u = np.column_stack([1 + np.sin(6 * p[:, 2]), np.cos(6 * p[:, 0]), np.sin(6 * p[:, 1])]).astype(np.float32)
    p_static = (1 - 0.5 * (u * u).sum(1)).astype(np.float32)
    for name, values in (("Velocity", u), ("Pressure", p_static), ("Density", np.ones(len(p), np.float32))):
        array = numpy_to_vtk(values, deep=1)
        array.SetName(name)
        data.GetPointData().AddArray(array)


def save(writer: Any, data: Any, path: Path, *, packed: bool = False) -> None:
    writer.SetFileName(str(path))
    writer.SetInputData(data)
    writer.SetDataModeToAppended()
    if not packed:
        writer.EncodeAppendedDataOff()
        writer.SetCompressorTypeToNone()
    writer.SetHeaderTypeToUInt64()
    writer.Write()


def hexahedra(dims: tuple[int, int, int]) -> np.ndarray[Any, Any]:
    index = np.arange(np.prod(dims), dtype=np.int32).reshape(dims[::-1])
    a, b = slice(None, -1), slice(1, None)
    return np.stack([index[a, a, a], index[a, a, b], index[a, b, b], index[a, b, a], index[b, a, a], index[b, a, b], index[b, b, b],
                     index[b, b, a]], axis=-1).reshape(-1, 8)


def unstructured(points: np.ndarray[Any, Any], corners: np.ndarray[Any, Any]) -> Any:
    from tidal_lens.flow.grid import HEXAHEDRON, UnstructuredGrid
    from vtk_data import to_unstructured

    data = to_unstructured(points, UnstructuredGrid(len(points), corners, np.full(len(corners), HEXAHEDRON, np.uint8)))
    fill(data, points)
    return data


def make(folder: Path, millions: float) -> list[Path]:
    """A structured and an unstructured file, one of 2 million cells, the same in 200 pieces, a million cells with own nodes, packed too."""
    from vtkmodules.util.numpy_support import numpy_to_vtk
    from vtkmodules.vtkCommonCore import vtkPoints
    from vtkmodules.vtkCommonDataModel import vtkStructuredGrid
    from vtkmodules.vtkIOXML import vtkXMLStructuredGridWriter, vtkXMLUnstructuredGridWriter

    n = round((millions * 1e6) ** (1 / 3)) + 1
    points = lattice(n)
    block = vtkStructuredGrid()
    block.SetDimensions(n, n, n)
    holder = vtkPoints()
    holder.SetData(numpy_to_vtk(points))
    block.SetPoints(holder)
    fill(block, points)
    save(vtkXMLStructuredGridWriter(), block, folder / "block.vts")
    del block
    save(vtkXMLUnstructuredGridWriter(), unstructured(points, hexahedra((n, n, n))), folder / "mesh.vtu")
    n = 127
    points, corners = lattice(n), hexahedra((n, n, n))
    save(vtkXMLUnstructuredGridWriter(), unstructured(points, corners), folder / "two.vtu")
    owner = np.minimum((points[corners[:, 0]] * [5, 5, 8]).astype(int) @ [1, 5, 25], 199)
    names = []
    for piece in range(200):
        own, compact = np.unique(corners[owner == piece], return_inverse=True)
        names.append(f"part_{piece}.vtu")
        save(vtkXMLUnstructuredGridWriter(), unstructured(points[own], compact.reshape(-1, 8).astype(np.int32)), folder / names[-1])
    arrays = "".join(f'<PDataArray type="Float32" Name="{a}" NumberOfComponents="{c}"/>' for a, c in (("Velocity", 3), ("Pressure", 1),
                                                                                                    ("Density", 1)))
    pieces = "".join(f'<Piece Source="{name}"/>' for name in names)
    (folder / "two in 200.pvtu").write_text(
        '<VTKFile type="PUnstructuredGrid" version="1.0"><PUnstructuredGrid GhostLevel="0">'
        f'<PPointData>{arrays}</PPointData><PPoints><PDataArray type="Float64" NumberOfComponents="3"/></PPoints>{pieces}'
        "</PUnstructuredGrid></VTKFile>")
    n = 101
    points, corners = lattice(n), hexahedra((n, n, n))
    loose = np.arange(8 * len(corners), dtype=np.int32).reshape(-1, 8)
    ones = {"one": unstructured(points, corners), "one, own nodes": unstructured(points[corners].reshape(-1, 3), loose)}
    for name, data in ones.items():
        save(vtkXMLUnstructuredGridWriter(), data, folder / f"{name}.vtu")
        save(vtkXMLUnstructuredGridWriter(), data, folder / f"{name}, packed.vtu", packed=True)
    return [folder / name for name in ("block.vts", "mesh.vtu", "two.vtu", "two in 200.pvtu", "one.vtu", "one, own nodes.vtu",
                                       "one, packed.vtu", "one, own nodes, packed.vtu")]


def child(side: str, path: Path) -> None:
    """Open a file and tell time and memory."""
    from vtkmodules.vtkIOXML import vtkXMLPUnstructuredGridReader, vtkXMLStructuredGridReader, vtkXMLUnstructuredGridReader

    readers = {".vts": vtkXMLStructuredGridReader, ".vtu": vtkXMLUnstructuredGridReader, ".pvtu": vtkXMLPUnstructuredGridReader}
    if side == "ours":
        from tidal_lens.formats.registry import open_flow
        from tidal_lens.study.beginnings import first_study
        from tidal_lens.study.evaluate import Evaluator
        from tidal_lens.work import Token
    before = most_memory()
    began = time.perf_counter()
    opened = 0.0
    if side == "theirs":
        reader = readers[path.suffix]()
        reader.SetFileName(str(path))
        reader.Update()
    else:
        flow = open_flow(path)
        opened = time.perf_counter() - began
        evaluator = Evaluator(flow, flow.reference)
        for layer in first_study(flow, evaluator.store).layers:
            evaluator.evaluate(layer, Token())
        evaluator.outline()
    took = time.perf_counter() - began
    print(json.dumps({"time": took, "open": opened, "memory": most_memory() - before}))


def most_memory() -> int:
    """Greatest resident set of this process [bytes]; unlike getrusage not that of its parent."""
    line = next(text for text in Path("/proc/self/status").read_text().splitlines() if text.startswith("VmHWM"))
    return 1024 * int(line.split()[1])


def run(side: str, path: Path) -> dict[str, float]:
    done = subprocess.run([sys.executable, __file__, "--child", side, str(path)], capture_output=True, check=True, text=True)
    found: dict[str, float] = json.loads(done.stdout.splitlines()[-1])
    return found


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--cells", type=float, default=10.0, help="millions of cells")
    options.add_argument("--turns", type=int, default=3)
    options.add_argument("--child", nargs=2)
    chosen = options.parse_args()
    if chosen.child:
        child(chosen.child[0], Path(chosen.child[1]))
        return
    with tempfile.TemporaryDirectory() as scratch:
        rows = {}
        for path in make(Path(scratch), chosen.cells):
            size = sum(p.stat().st_size for p in path.parent.glob("part_*.vtu")) if path.suffix == ".pvtu" else path.stat().st_size
            ours, theirs = zip(*((run("ours", path), run("theirs", path)) for _ in range(chosen.turns)), strict=True)
            rows[path.name] = best = min(o["time"] for o in ours)
            plain = min(t["time"] for t in theirs)
            ratio = float(np.median([o["time"] / t["time"] for o, t in zip(ours, theirs, strict=True)]))
            memory = max(o["memory"] for o in ours)
            print(f"{path.name:26s} {size / 1e9:5.2f} GB   open {min(o['open'] for o in ours):5.2f} s   first picture {best:5.2f} s   "
                  f"VTK plain read {plain:5.2f} s   ratio {ratio:4.1f}   memory {memory / size:4.2f} x its size "
                  f"(VTK {max(t['memory'] for t in theirs) / size:4.2f})")
        print(f"200 pieces against one file: {rows['two in 200.pvtu'] / rows['two.vtu']:.2f}  (wanted at most 1.5)")
        for form in ("", ", packed"):
            print(f"a million cells that share no nodes against the joined file{form}: "
                  f"{rows[f'one, own nodes{form}.vtu'] / rows[f'one{form}.vtu']:.2f}  (wanted at most 1.5; eight times the points)")
        print("wanted: first picture within 10 s, memory at most 2.5 x its size")


if __name__ == "__main__":
    main()
