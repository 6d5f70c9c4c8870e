"""Nodes of CGNS files written by hand."""

import numpy as np


def label(group, kind, data):
    group.attrs.create("label", np.bytes_(kind), dtype="S33")
    group.attrs.create("name", np.bytes_(group.name.split("/")[-1]), dtype="S33")
    group.attrs.create("type", np.bytes_(data), dtype="S3")
    return group


def node(parent, name, kind, values=None):
    group = label(parent.create_group(name), kind, "MT" if values is None else "R8")
    if values is not None:
        data = np.frombuffer(values.encode(), np.int8) if isinstance(values, str) else np.asarray(values)
        group.create_dataset(" data", data=data)
    return group
