"""From the text of a formula to a checked tree. Nothing in it is ever executed: only the kinds of node named here pass."""

from __future__ import annotations

import ast
import difflib
import math
import re
import warnings
from collections.abc import Callable, Iterable, Mapping

from tidal_lens.quantities.formula.functions import AVERAGES, FUNCTIONS, SLOPES
from tidal_lens.quantities.formula.habits import FUNCTIONS as FUNCTION_HABITS
from tidal_lens.quantities.formula.habits import NAMES, OLD_FUNCTIONS, OLD_SLOPES, Slip, quotient_in, slip_in
from tidal_lens.quantities.formula.tree import Formula, FormulaError, Leaf, Node, Shape
from tidal_lens.quantities.units import NUMBER, Unit

LONGEST = 4000
_MOST_PARTS, _DEEPEST = 600, 60
_OPERATORS: dict[type[ast.operator], str] = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.Pow: "**"}
_COMPARE: dict[type[ast.cmpop], str] = {ast.Lt: "<", ast.LtE: "<=", ast.Eq: "==", ast.NotEq: "!=", ast.GtE: ">=", ast.Gt: ">"}
_INSTEAD: dict[type[ast.operator], str] = {ast.BitXor: "Powers are written with **.", ast.BitAnd: "Use and.", ast.BitOr: "Use or.",
                                          ast.MatMult: "Use dot(a, b)."}
_MEANT: dict[type[ast.operator], tuple[str, str]] = {ast.BitXor: ("^", "**"), ast.BitAnd: ("&", "and"), ast.BitOr: ("|", "or")}
_NAMED = re.compile(r"\s*\w+\s*=(?!=)")
_QUOTED = re.compile(r"`([^`\n]*)`")
_UNFINISHED = re.compile(r"(?:[-+*/<>=,(]|\b(?:and|or|not|if|else))\s*$")
Resolve = Callable[[str, bool], "Leaf | None"]


def parse(text: str, resolve: Resolve, names: Iterable[str] = (), *, old: Mapping[str, str] | None = None,
          understood: bool = False) -> Formula:
    """Understand a formula.

    Parameters
    ----------
    text : str
        What was typed: a Python expression of names, numbers, operators and the functions of the language.
    resolve : callable
        What a name stands for, or None; whether it stood in backticks is told too.
    names : iterable of str
        Names that exist, for "did you mean".
    old : mapping of str to str, optional
        Names as they were before, with those of now.
    understood : bool
        Whether names and functions of that time are understood; else they are slips.

    Raises
    ------
    FormulaError
        It is not understood; ``begin`` and ``end`` say where.
    """
    if not text.strip():
        raise FormulaError("The formula is empty.", 0, 1, "Type an expression, such as 0.5 * density * length(velocity)**2.")
    if len(text) > LONGEST:
        raise FormulaError(f"The formula has {len(text):,} characters, at most {LONGEST:,} are taken.", LONGEST, len(text),
                           "Split it: a formula may use others by their names.")
    lead = len(text) - len(text.lstrip())
    return _Reader(text, lead, resolve, names, old or {}, understood).formula()


class _Reader:
    def __init__(self, text: str, lead: int, resolve: Resolve, names: Iterable[str], old: Mapping[str, str], understood: bool) -> None:
        self.text, self.lead, self.resolve, self.names = text, lead, resolve, list(names)
        self.old, self.understood = old, understood
        self.doubts: list[str] = []
        self.count = 0
        self.quoted: dict[int, str] = {}

    def formula(self) -> Formula:
        source = self._unquoted()
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                body = ast.parse(source[self.lead:], mode="eval").body
        except SyntaxError as exc:
            at = self.lead + max((exc.offset or 1) - 1, 0)
            end = self.lead + exc.end_offset - 1 if exc.end_offset and exc.end_lineno == exc.lineno else at + 1
            raise self._slip(source) or FormulaError(self._why(source, exc, at), min(at, len(source) - 1),
                                                     min(max(end, at + 1), len(source))) from None
        except (RecursionError, MemoryError, ValueError, OverflowError):
            raise FormulaError("The formula cannot be read: it is nested too deeply, or a number in it is too long.", 0,
                               len(self.text), "Split it: a formula may use others by their names.") from None
        root = self.node(body, 0)
        return Formula(self.text, root, tuple(dict.fromkeys(self.doubts)))

    def _unquoted(self) -> str:
        """The text with names in backticks replaced by placeholders of the same length."""
        if self.text.count("`") % 2:
            at = self.text.rindex("`")
            raise FormulaError("A backtick is left open.", at, at + 1, "Names with spaces stand between two backticks: `Static Pressure`.")
        if "\n" in self.text.strip() or "\r" in self.text.strip():
            at = self.lead + min(i for c in "\n\r" if (i := self.text[self.lead:].find(c)) >= 0)
            raise FormulaError("A formula is one line.", at, at + 1)

        def placeholder(match: re.Match[str]) -> str:
            if not match.group(1).strip():
                raise FormulaError("There is no name between the backticks.", match.start(), match.end())
            self.quoted[len(self.text[: match.start()])] = match.group(1)
            return "_" * len(match.group(0))

        return _QUOTED.sub(placeholder, self.text)

    def _slip(self, source: str) -> FormulaError | None:
        """What is often written in another way, with what to write instead."""
        bare = self._needs_backticks(source)
        if bare is not None:
            return bare
        slip = slip_in(self.text, source)
        return None if slip is None else self._mended(slip)

    @staticmethod
    def _mended(slip: Slip) -> FormulaError:
        return FormulaError(slip.what, slip.begin, slip.end, f"Write {slip.instead}.", slip.instead)

    def _needs_backticks(self, source: str) -> FormulaError | None:
        """A name that is no word of the language, written as it is; the longest where there are several."""
        for name in sorted((n for n in self.names if n in source and not n.isidentifier() and len(n) > 1), key=len, reverse=True):
            found = re.search(rf"(?<!\w){re.escape(name)}(?!\w)", source)
            if found:
                return FormulaError(f"{name} is a name that has to stand between backticks.", *found.span(), f"Write `{name}`.",
                                    f"`{name}`")
        return None

    @staticmethod
    def _why(source: str, exc: SyntaxError, at: int) -> str:
        said = str(exc.msg or "")
        if source.count("(") != source.count(")"):
            return "A bracket is left open." if source.count("(") > source.count(")") else "There is a closing bracket too many."
        if _NAMED.match(source):
            return "Write only what stands right of the =: the name has a field of its own."
        if "Maybe you meant '=='" in said or "cannot assign" in said or re.search(r"[^=<>!]=[^=]", source):
            return "One = does not compare. Use == to ask whether two are equal."
        if at >= len(source.rstrip()) or _UNFINISHED.search(source):
            return "Something is missing at the end."
        return "The formula is not understood here."

    # -- places ----------------------------------------------------------------------------------------------

    def span(self, node: ast.AST) -> tuple[int, int]:
        rest = self.text[self.lead:].encode()
        begin = len(rest[: getattr(node, "col_offset", 0)].decode(errors="ignore"))
        end = len(rest[: getattr(node, "end_col_offset", 0) or 0].decode(errors="ignore"))
        return self.lead + begin, self.lead + max(end, begin + 1)

    def fail(self, node: ast.AST, what: str, advice: str = "", suggestion: str = "") -> FormulaError:
        return FormulaError(what, *self.span(node), advice, suggestion)

    # -- nodes -----------------------------------------------------------------------------------------------

    def node(self, node: ast.AST, depth: int) -> Node:
        self.count += 1
        if self.count > _MOST_PARTS or depth > _DEEPEST:
            raise self.fail(node, "The formula is too long or nested too deeply.", "Split it: a formula may use others by their names.")
        kinds: dict[type[ast.AST], Callable[[object, int], Node]] = {
            ast.Constant: self._constant, ast.Name: self._name, ast.UnaryOp: self._unary, ast.BinOp: self._binary,  # type: ignore[dict-item]
            ast.BoolOp: self._logic, ast.Compare: self._compare, ast.IfExp: self._choice, ast.Call: self._call,  # type: ignore[dict-item]
            ast.Attribute: self._component, ast.Tuple: self._triple,  # type: ignore[dict-item]
        }
        make = kinds.get(type(node))
        if make is None:
            rest = "It knows names, numbers, + - * / **, comparisons, and, or, not, a if c else b, and functions."
            raise self.fail(node, "This is not part of the formula language.",
                            "Components are written velocity.x, grad(velocity).xy." if isinstance(node, ast.Subscript) else rest)
        return make(node, depth + 1)

    def _constant(self, node: ast.Constant, _depth: int) -> Node:
        if isinstance(node.value, bool) or not isinstance(node.value, int | float):
            raise self.fail(node, "Only numbers can be written here, no texts and no other constants.")
        try:
            value = float(node.value)
        except OverflowError:
            value = math.inf
        if not math.isfinite(value):
            raise self.fail(node, "The number is too large.")
        return Node("number", "scalar", NUMBER, value=value, plain=True)

    def _name(self, node: ast.Name, _depth: int) -> Node:
        begin, _ = self.span(node)
        quoted = self.quoted.get(begin)
        name = node.id if quoted is None else quoted
        leaf = self.resolve(name, quoted is not None)
        if leaf is None and self.understood and quoted is None and name in self.old:
            leaf = self.resolve(self.old[name], False)
        if leaf is None:
            if name in FUNCTIONS and quoted is None:
                raise self.fail(node, f"{name} is a function.", f"Write {FUNCTIONS[name].takes}.")
            bare = self._needs_backticks(self._unquoted())
            raise bare or self._unknown(node, name, self.names, {**NAMES, **self.old}, "There is no quantity or formula called")
        return Node("leaf", leaf.shape, leaf.unit, leaf=leaf)

    def _unknown(self, node: ast.AST, name: str, known: list[str], habits: dict[str, str], what: str) -> FormulaError:
        usual = habits.get(name, "")
        if usual and set(re.findall(r"\w+", usual)) <= {"x", "y", "z", *known}:
            return self.fail(node, f"{what} {name}.", f"Did you mean {usual}?", usual)
        lower = {k.lower(): k for k in reversed(known)}
        close = [lower[name.lower()]] if name.lower() in lower else [
            lower[c] for c in difflib.get_close_matches(name.lower(), list(lower), 1, 0.6)]
        hint = close[0] if close else ""
        if hint and not hint.isidentifier():
            hint = f"`{hint}`"
        return self.fail(node, f"{what} {name}.", f"Did you mean {hint}?" if hint else "", hint)

    def _unary(self, node: ast.UnaryOp, depth: int) -> Node:
        inner = self.node(node.operand, depth)
        if isinstance(node.op, ast.Not):
            self._want(node.operand, inner, "condition", "not")
            return Node("not", "condition", None, (inner,))
        if isinstance(node.op, ast.Invert) or inner.shape == "condition":
            raise self.fail(node, "A condition has no sign." if inner.shape == "condition" else "~ is not part of the formula language.",
                            "Use not to turn a condition round.")
        return inner if isinstance(node.op, ast.UAdd) else Node("neg", inner.shape, inner.unit, (inner,), plain=inner.plain)

    def _want(self, node: ast.AST, got: Node, shape: Shape, by: str) -> None:
        if got.shape != shape:
            raise self.fail(node, f"{by} needs a {shape} here, and this is a {got.shape}.")

    def _binary(self, node: ast.BinOp, depth: int) -> Node:
        sign = _OPERATORS.get(type(node.op))
        if sign is None:
            typed = self.text[slice(*self.span(node))]
            written, meant = _MEANT.get(type(node.op), ("", ""))
            raise self.fail(node, "This operator is not part of the formula language.",
                            _INSTEAD.get(type(node.op), "It knows + - * / and **."),
                            typed.replace(written, meant) if written and "`" not in typed else "")
        a, b = self.node(node.left, depth), self.node(node.right, depth)
        for part, tree in ((a, node.left), (b, node.right)):
            if part.shape == "condition":
                raise self.fail(tree, f"{sign} cannot take a condition.", "Use where(condition, a, b) to make numbers of it.")
        if sign in "+-":
            if a.shape != b.shape:
                raise self.fail(node, f"A {a.shape} and a {b.shape} cannot be {'added' if sign == '+' else 'subtracted'}.",
                                "Take length() or a component such as .x of the vector.")
            return Node(sign, a.shape, self._common(a, b, sign), (a, b), plain=a.plain and b.plain)
        return self._scaled(node, sign, a, b)

    def _scaled(self, node: ast.BinOp, sign: str, a: Node, b: Node) -> Node:
        plain = a.plain and b.plain
        if sign == "*":
            if a.shape != "scalar" and b.shape != "scalar":
                raise self.fail(node, f"A {a.shape} times a {b.shape} can mean several things.",
                                "Use dot(a, b), cross(a, b) or outer(a, b).")
            shape = b.shape if a.shape == "scalar" else a.shape
            return Node(sign, shape, a.unit * b.unit if a.unit is not None and b.unit is not None else None, (a, b), plain=plain)
        if b.shape != "scalar":
            raise self.fail(node.right, f"{'Dividing by' if sign == '/' else 'Raising to'} a {b.shape} is not defined.")
        if sign == "/":
            return Node(sign, a.shape, a.unit / b.unit if a.unit is not None and b.unit is not None else None, (a, b), plain=plain)
        if a.shape != "scalar":
            raise self.fail(node.left, f"A power of a {a.shape} is not defined.", "Use dot(a, a) or length(a)**2.")
        return Node(sign, "scalar", self._raised(a, b), (a, b), plain=plain)

    def _raised(self, a: Node, b: Node) -> Unit | None:
        exponent = b.fixed
        if b.unit is not None and not b.unit.is_none:
            self.doubts.append("An exponent has a unit.")
            return None
        if a.unit is None or a.unit.is_none:
            return a.unit
        return a.unit**exponent if exponent is not None and abs(exponent) <= 100 else None

    def _common(self, a: Node, b: Node, sign: str) -> Unit | None:
        """The unit of two that are added or compared; bare numbers take that of the other."""
        if a.plain or b.plain:
            return b.unit if a.plain else a.unit
        if a.unit is None or b.unit is None:
            return None
        if a.unit != b.unit:
            self.doubts.append(f"Units differ on the two sides of {sign}: {a.unit or 'none'} and {b.unit or 'none'}.")
            return None
        return a.unit

    def _logic(self, node: ast.BoolOp, depth: int) -> Node:
        word = "and" if isinstance(node.op, ast.And) else "or"
        parts = [self.node(v, depth) for v in node.values]
        for part, tree in zip(parts, node.values, strict=True):
            self._want(tree, part, "condition", word)
        return Node(word, "condition", None, tuple(parts))

    def _compare(self, node: ast.Compare, depth: int) -> Node:
        trees = [node.left, *node.comparators]
        parts = [self.node(t, depth) for t in trees]
        made: list[Node] = []
        for n, op in enumerate(node.ops):
            sign = _COMPARE.get(type(op))
            if sign is None:
                raise self.fail(node, "This comparison is not part of the formula language.", "It knows < <= == != >= >.")
            for part, tree in ((parts[n], trees[n]), (parts[n + 1], trees[n + 1])):
                self._want(tree, part, "scalar", sign)
            self._common(parts[n], parts[n + 1], sign)
            made.append(Node(sign, "condition", None, (parts[n], parts[n + 1])))
        return made[0] if len(made) == 1 else Node("and", "condition", None, tuple(made))

    def _choice(self, node: ast.IfExp, depth: int) -> Node:
        test, a, b = (self.node(t, depth) for t in (node.test, node.body, node.orelse))
        self._want(node.test, test, "condition", "if")
        if a.shape != b.shape:
            raise self.fail(node, f"Both choices must be alike, and they are a {a.shape} and a {b.shape}.")
        return Node("where", a.shape, self._common(a, b, "else"), (test, a, b))

    def _component(self, node: ast.Attribute, depth: int) -> Node:
        inner = self.node(node.value, depth)
        axes = ["xyz".find(c) for c in node.attr]
        wanted = {"vector": 1, "tensor": 2}.get(inner.shape)
        if wanted is None:
            raise self.fail(node, f"Only vectors and tensors have components, and this is a {inner.shape}.")
        if len(axes) != wanted or min(axes) < 0:
            _, end = self.span(node)
            raise FormulaError(f"A {inner.shape} has no component {node.attr}.", end - len(node.attr), end,
                               "Write .x, .y or .z." if wanted == 1 else "Write .xx, .xy and so on.")
        return Node("part", "scalar", inner.unit, (inner,), value=float(axes[0] if wanted == 1 else 3 * axes[0] + axes[1]))

    def _triple(self, node: ast.Tuple, depth: int) -> Node:
        if len(node.elts) != 3:
            raise self.fail(node, "A vector has three components.", "Write vector(a, b, c).")
        return self._applied(node, "vector", list(node.elts), depth)

    def _call(self, node: ast.Call, depth: int) -> Node:
        if not isinstance(node.func, ast.Name) or node.keywords or any(isinstance(a, ast.Starred) for a in node.args):
            raise self.fail(node, "Functions are called by their name with plain arguments.", "For example dot(velocity, grad(pressure)).")
        name = node.func.id
        if self.understood:
            if name in OLD_SLOPES:
                return self._applied(node, f"slope {OLD_SLOPES[name]}", list(node.args), depth)
            name = OLD_FUNCTIONS.get(name, name)
        if name == "slope":
            return self._slope(node, depth)
        if name not in FUNCTIONS:
            if self.resolve(name, False) is not None:
                raise self.fail(node.func, f"{name} is a quantity, not a function.", f"To multiply, write {name} * (…).")
            if name in OLD_SLOPES and len(node.args) == 1:
                inner = self.text[slice(*self.span(node.args[0]))]
                meant = f"slope({inner}, {OLD_SLOPES[name]})"
                raise self.fail(node, f"There is no function called {name}.", f"Did you mean {meant}?", meant)
            slip = quotient_in(self.text) if name == "d" else None
            raise self._mended(slip) if slip is not None else self._unknown(
                node.func, name, list(FUNCTIONS), {**FUNCTION_HABITS, **OLD_FUNCTIONS}, "There is no function called")
        return self._applied(node, name, list(node.args), depth)

    def _slope(self, node: ast.Call, depth: int) -> Node:
        """slope(f, x): along which coordinate is told by its name."""
        axis = node.args[1] if len(node.args) == 2 else None
        if not isinstance(axis, ast.Name) or axis.id not in ("x", "y", "z"):
            raise self.fail(axis or node, "slope takes a quantity and the coordinate along which it changes: x, y or z.",
                            "For example slope(pressure, x); rate(f) is the one in time.")
        return self._applied(node, f"slope {axis.id}", [node.args[0]], depth)

    def _applied(self, node: ast.AST, name: str, trees: list[ast.expr], depth: int) -> Node:
        function = SLOPES.get(name) or FUNCTIONS[name]
        parts = tuple(self.node(t, depth) for t in trees)
        shape = function.shape(tuple(p.shape for p in parts))
        if shape is None:
            raise self._unfit(node, name, parts)
        if name == "smooth":
            self._passes(trees[1], parts[1])
        if function.pure:
            for part in parts:
                if part.unit is not None and not part.unit.is_none:
                    self.doubts.append(f"{name} of something in {part.unit}: it takes pure numbers.")
        units = [p.unit for p in parts]
        if name in ("min", "max", "clip", "vector"):
            first = parts[0]
            for other in parts[1:]:
                found = self._common(first, other, name)
                first = Node("leaf", "scalar", found, plain=first.plain and other.plain)
            units[0] = first.unit
        if name == "where":
            units[1] = self._common(parts[1], parts[2], name)
        plain = bool(parts) and all(p.plain for p in parts) and name not in AVERAGES
        return Node(name, shape, function.unit(tuple(units)), parts, plain=plain)

    def _unfit(self, node: ast.AST, name: str, parts: tuple[Node, ...]) -> FormulaError:
        """What to say of a function that cannot be applied to what it is given."""
        given = ", ".join(p.shape for p in parts) or "nothing"
        if name == "where" and len(parts) == 3 and parts[0].shape == "condition":
            return self.fail(node, f"Both choices must be alike, and they are a {parts[1].shape} and a {parts[2].shape}.")
        if name == "abs" and given == "vector":
            length = f"length{self.text[slice(*self.span(node))][3:]}"
            return self.fail(node, "A vector has a length, not a sign.", f"Did you mean {length}?", length)
        if name in ("min", "max") and len(parts) == 1:
            return self.fail(node, f"{name} compares several quantities point by point.",
                             f"The {'least' if name == 'min' else 'greatest'} value in the flow is "
                             f"{'least' if name == 'min' else 'greatest'}(f).")
        function = SLOPES.get(name) or FUNCTIONS[name]
        return self.fail(node, f"{name.split()[0]} cannot be applied to {given}.", f"It is {function.takes}: {function.about}.")

    def _passes(self, tree: ast.AST, part: Node) -> None:
        count = part.fixed
        if count is None or count != int(count) or not 1 <= count <= 100:
            raise self.fail(tree, "The number of passes is a whole number from 1 to 100.")
