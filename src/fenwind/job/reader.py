"""What a step reads of a job: records as columns, single records, frames, the contents of files, other
results.

A reader hands these out and notes what was asked together with a digest of the answer. A step says nothing
about what it depends on: asking is saying. Answers are kept while the records they come from stay the
same.
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from itertools import islice
from operator import attrgetter
from typing import Any, NamedTuple, TypeVar, cast, get_args, get_type_hints

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FrameError, ProcedureError
from fenwind.geodesy.axes import bound_grid
from fenwind.geodesy.frames import Frame, FrameSpec, find_crs, open_frame
from fenwind.job.state import JobState
from fenwind.records.network import ObservationSet
from fenwind.records.records import FrameRecord, Record

R = TypeVar("R", bound=Record)
#: Records that a column is made of at a time.
PIECE = 4000
#: What tells one answer from another: a digest of its contents, or, for a single record, that record itself.
Digest = Any


class Question(NamedTuple):
    """One thing asked of a reader: what ("rows", "record", "file", "result") and about what."""

    what: str
    about: tuple[Any, ...]


_long_text = lru_cache(maxsize=4)(repr)


def _text_of(item: Any) -> str:
    """The repr of a value; that of a record of many rows is asked for by each step that reads it."""
    return _long_text(item) if isinstance(item, ObservationSet) else repr(item)


def digest_of(*parts: Any) -> Digest:
    """A digest of values: arrays by their bytes, texts in object arrays by their text, all else by its
    repr."""
    digest = hashlib.blake2b(digest_size=16)
    for item in parts:
        if isinstance(item, np.ndarray) and item.dtype != object:
            digest.update(repr((item.shape, item.dtype.str)).encode())
            digest.update(np.ascontiguousarray(item).tobytes())
        elif isinstance(item, bytes):
            digest.update(item)
        else:
            text = "\x1f".join(item.tolist()) if isinstance(item, np.ndarray) else _text_of(item)
            digest.update(text.encode())
        digest.update(b"\x1e")
    return digest.digest()


@dataclass(frozen=True, kw_only=True, eq=False)
class Rows:
    """Records of one kind as columns (k,): float64 with nan for None, bool, or objects for texts; ids
    likewise."""

    ids: NDArray[np.object_]
    columns: dict[str, NDArray[Any]]

    def __len__(self) -> int:
        return len(self.ids)

    def __getitem__(self, column: str) -> NDArray[Any]:
        return self.columns[column]

    def where(self, chosen: NDArray[np.bool_]) -> Rows:
        """Some of the rows."""
        return Rows(ids=self.ids[chosen], columns={k: v[chosen] for k, v in self.columns.items()})

    def digest(self) -> Digest:
        """Digest of everything in it."""
        return digest_of(self.ids, *(v for _, v in sorted(self.columns.items())))


@cache
def _dtype(kind: type, name: str) -> type:
    """float, bool or object: what a field of a kind of record is held as."""
    hint = get_type_hints(kind)[name]
    plain = {t for t in (get_args(hint) or (hint,)) if t is not type(None)}
    return float if plain == {float} else bool if plain == {bool} else object


def _places(records: Iterable[str]) -> dict[str, int]:
    """Where each record stands. What fills a dictionary lets nobody else have a turn before it is done."""
    places: dict[str, int] = {}
    numbered = ((key, at) for at, key in enumerate(records))
    while piece := list(islice(numbered, PIECE)):
        places.update(piece)
    return places


def _column(kind: type, name: str, records: list[Record]) -> NDArray[Any]:
    dtype, read = _dtype(kind, name), attrgetter(name)
    out: NDArray[Any] = np.empty(len(records), dtype=dtype)
    # Neither what reads nor what fills an array lets anybody else have a turn before it is done.
    for begin in range(0, len(records), PIECE):
        values = list(map(read, records[begin : begin + PIECE]))
        out[begin : begin + PIECE] = values if dtype is object else np.array(values, dtype=dtype)
    return out  # None is nan


class Shelf:
    """Columns of all records of a job by kind, put right row by row while few records change.

    One belongs to a job and outlives its states; a state that is only tried may use it too, since every
    change of any state has a stamp of its own.
    """

    def __init__(self) -> None:
        self._held: dict[type, tuple[int, dict[str, int], dict[str, NDArray[Any]]]] = {}
        self._files: dict[str, tuple[tuple[int, int, int], bytes]] = {}
        self._numbers: dict[Question, int] = {}
        self.given: dict[Any, tuple[Any, tuple[tuple[str, Any], ...]]] = {}
        self.questions: list[Question] = []

    def number(self, question: Question) -> int:
        """A number that stands for a question from now on: what is asked at every derivation is then found
        quickly."""
        known = self._numbers.get(question)
        if known is None:
            known = self._numbers[question] = len(self.questions)
            self.questions.append(question)
        return known

    def columns(self, state: JobState, kind: type[Record], names: tuple[str, ...]) -> dict[str, NDArray[Any]]:
        """Columns of all records of a kind, "id" among them."""
        stamp, places, columns = self._held.get(kind, (-1, {}, {}))
        records = cast(dict[str, Record], state.of(kind))
        if stamp != state.stamp(kind):
            changed = state.changed_since(kind, stamp)
            same = changed is not None and len(places) == len(records)
            if same and all(c in places and c in records for c in changed or ()):
                columns = {
                    n: self._patched(kind, n, c, changed or set(), places, records)
                    for n, c in columns.items()
                }
            else:
                places, columns = _places(records), {}
            self._held[kind] = (state.stamp(kind), places, columns)
        lacking = [name for name in ("id", *names) if name not in columns]
        every = list(records.values()) if lacking else []
        for name in lacking:
            columns[name] = _column(kind, name, every)
        return columns

    @staticmethod
    def _patched(
        kind: type, name: str, column: NDArray[Any], changed: set[str], places: dict[str, int], records: Any
    ) -> NDArray[Any]:
        out = column.copy()
        for key in changed:
            value = getattr(records[key], name)
            out[places[key]] = np.nan if value is None and _dtype(kind, name) is float else value
        return out

    def file_digest(self, path: str) -> bytes:
        """Digest of a file's contents, of nothing when it cannot be read; read again when size or time
        changed."""
        try:
            seen = os.stat(path)
            if not stat.S_ISREG(seen.st_mode):
                return b""  # a pipe would keep everybody waiting; who opens it says what is wrong
            stamp = (seen.st_mtime_ns, seen.st_size, seen.st_ino)
            if path not in self._files or self._files[path][0] != stamp:
                with open(path, "rb") as file:
                    self._files[path] = (stamp, hashlib.file_digest(file, "sha256").digest())
            return self._files[path][1]
        except OSError:
            return b""


class Reader:
    """Reads one state of a job for one step, and notes what was asked."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self.asked: dict[int, Digest] = {}

    def _ask(self, question: Question) -> Any:
        number = self._source.shelf.number(question)
        answer, self.asked[number] = self._source.answer(number)
        return answer

    def digests(self, what: str) -> list[Digest]:
        """Digests of all answers so far to questions of one sort ("rows", "record", "file", "result")."""
        questions = self._source.shelf.questions
        return [digest for number, digest in self.asked.items() if questions[number].what == what]

    def rows(self, kind: type[Record], *names: str, **only: Any) -> Rows:
        """Columns `names` of the records of a kind, those alone whose fields have the values in `only`."""
        return cast(Rows, self._ask(Question("rows", (kind, names, tuple(sorted(only.items()))))))

    def record(self, kind: type[R], key: str) -> R | None:
        """The record of an id, None when there is none."""
        return cast("R | None", self._ask(Question("record", (kind, key))))

    def needed(self, kind: type[R], key: str) -> R:
        """The record of an id that a step is about. Raises ProcedureError when the job has none."""
        record = self.record(kind, key)
        if record is None:
            raise ProcedureError("what it stands on is not in the job", hint="Choose another, or undo")
        return record

    def frame(self, key: str) -> Frame:
        """The live frame of an id. Raises FrameError when it is switched off or cannot be opened."""
        record = self.record(FrameRecord, key)
        if record is None or not record.active:
            raise FrameError("its frame is switched off", hint="Switch the frame on, or choose another")
        spec = with_grid_folder(record.spec, self._source.folder)
        contents = self._ask(Question("file", (spec.height.grid,))) if spec.height.grid else b""
        shift = bound_grid(find_crs(spec.crs)) if spec.crs else ""
        if shift:
            contents += self._ask(Question("file", (shift,)))
        return open_frame(spec, contents)

    def result(self, node: Any) -> Any:
        """Result of another step. Raises the error that kept it from having one, with the name of that
        step."""
        outcome = self._ask(Question("result", (node,)))
        if outcome.error is None:
            return outcome.result
        if not outcome.title:
            raise outcome.error
        raise ProcedureError(
            f"it needs {outcome.title}, which has no result: {outcome.error}", hint=outcome.error.hint
        )

    def outcomes(self, nodes: list[Any]) -> list[Any]:
        """Outcomes of other steps, those without a result among them."""
        self._source.require(nodes)
        return [self._ask(Question("result", (node,))) for node in nodes]

    def giving(self, frame: str) -> tuple[Any, ...]:
        """The steps that may give positions in a frame, in their order."""
        return cast("tuple[Any, ...]", self._ask(Question("giving", (frame,))))

    def gives(self, outcome: Any) -> tuple[tuple[str, Any], ...]:
        """The positions in an outcome with a result: (id of the frame, set) each; the same ones for the
        same outcome."""
        shelf, node = self._source.shelf, outcome.node
        known = shelf.given.get(node)
        if known is None or known[0] is not outcome:
            known = shelf.given[node] = (outcome, _given(self._source.kinds[node.kind], outcome))
        return known[1]


# A kind of step that raises here has a fault, and nobody else shall suffer for it: it then has no steps,
# gives
# nothing. Where it solves, the fault is its outcome (derive.py).


def _nodes(kind: Any, state: JobState) -> list[Any]:
    try:
        return list(kind.nodes(state))
    except Exception:
        return []


def _targets(kind: Any, state: JobState, node: Any) -> tuple[str, ...]:
    try:
        return tuple(kind.targets(state, node))
    except Exception:
        return ()


def _given(kind: Any, outcome: Any) -> tuple[tuple[str, Any], ...]:
    try:
        return tuple(kind.gives(outcome))
    except Exception:
        return ()


class Pending(Exception):
    """Other steps have to be solved first."""

    def __init__(self, nodes: list[Any]) -> None:
        super().__init__(nodes)
        self.nodes = nodes


class Source:
    """Answers the questions of all readers of one derivation, each once. done: the outcomes there are so
    far; kinds: kinds of step by name."""

    def __init__(
        self, state: JobState, shelf: Shelf, folder: str, done: Mapping[Any, Any], kinds: Mapping[str, Any]
    ) -> None:
        self.state, self.folder, self.kinds = state, folder, kinds
        self.nodes = [node for kind in kinds.values() for node in _nodes(kind, state)]
        self.shelf, self._done = shelf, done
        self.answers: dict[int, tuple[Any, Digest]] = {}
        self._giving: dict[str, list[Any]] | None = None

    def require(self, nodes: Sequence[Any]) -> None:
        """Raise Pending when some steps have no outcome yet."""
        lacking = [node for node in nodes if node not in self._done]
        if lacking:
            raise Pending(lacking)

    def answer(self, number: int) -> tuple[Any, Digest]:
        """The answer to a question, and its digest. Never raises for what is missing: that is an answer
        too; raises Pending for a step that has no outcome yet."""
        known = self.answers.get(number)
        if known is None:
            known = self.answers[number] = self._found(self.shelf.questions[number])
        return known

    def _found(self, question: Question) -> tuple[Any, Digest]:
        if question.what == "rows":
            rows = self._rows(*question.about)
            return rows, rows.digest()
        if question.what == "record":
            kind, key = question.about
            record = self.state.of(kind).get(key)
            return record, record
        if question.what == "result":
            outcome = self._done.get(question.about[0])
            if outcome is None:
                raise Pending([question.about[0]])
            return outcome, outcome.digest
        if question.what == "giving":
            nodes = tuple(self._steps_giving().get(question.about[0], ()))
            return nodes, digest_of(nodes)
        digest = self.shelf.file_digest(question.about[0])
        return digest, digest

    def _steps_giving(self) -> dict[str, list[Any]]:
        if self._giving is None:
            self._giving = {}
            for node in self.nodes:
                for frame in _targets(self.kinds[node.kind], self.state, node):
                    self._giving.setdefault(frame, []).append(node)
        return self._giving

    def _rows(self, kind: type[Record], names: tuple[str, ...], only: tuple[tuple[str, Any], ...]) -> Rows:
        wanted = tuple(k for k, _ in only)
        columns = self.shelf.columns(self.state, kind, (*names, *wanted))
        rows = Rows(ids=columns["id"], columns={name: columns[name] for name in names})
        if not only:
            return rows
        chosen = np.ones(len(rows), dtype=bool)
        for name, value in only:
            chosen &= columns[name] == value
        return rows if chosen.all() else rows.where(chosen)


def with_grid_folder(spec: FrameSpec, folder: str) -> FrameSpec:
    """The recipe with a relative geoid grid found in the job file's folder."""
    if not spec.height.grid or os.path.isabs(spec.height.grid):
        return spec
    return replace(spec, height=replace(spec.height, grid=os.path.join(folder, spec.height.grid)))
