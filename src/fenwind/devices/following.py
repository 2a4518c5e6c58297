"""A rover listened to in a thread of its own, with the corrections that it gets: epochs wait here until
somebody takes them, so that a slow window loses none."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.devices.nmea_in import Epoch, NmeaReader
from fenwind.devices.rtcm_in import RtcmReader
from fenwind.devices.transport import Address, DeviceError, Link

FloatArray = NDArray[np.float64]

#: Seconds that a read waits at most.
TICK_S = 0.1
#: Bytes that are read under the lock at a time: some milliseconds.
PIECE = 600
#: Epochs that may wait; more and the oldest go (an hour at 5 Hz).
MOST_WAITING = 18_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Stream:
    """What is known of one link: where it leads, whether it is open, why not, how often it was lost."""

    where: str
    connected: bool
    problem: str
    losses: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Corrections:
    """What the corrections said last: geocentric ARP (3,) of the base, message set, seconds since the last
    message, satellites, kinds of message, those with a wrong checksum."""

    link: Stream
    position: FloatArray | None
    message_set: str
    age_s: float | None
    satellites: int
    kinds: tuple[int, ...]
    wrong: int
    station: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Heard:
    """What came since it was asked last: epochs, each with what the base broadcast then (None where the
    corrections are not listened to or have not said it), and how things stand. satellites: name to
    elevation, azimuth (degrees) and C/N0."""

    epochs: tuple[tuple[Epoch, FloatArray | None], ...]
    rover: Stream
    corrections: Corrections | None
    satellites: dict[str, tuple[int, int, int]]
    sentences: int
    wrong: int
    without_height: int


@dataclass
class _Held:
    """What the threads leave for who asks; nobody else touches what they read with."""

    corrections: Corrections | None = None
    sentences: int = 0
    wrong: int = 0
    without_height: int = 0
    epochs: deque[tuple[Epoch, FloatArray | None]] = field(default_factory=lambda: deque(maxlen=MOST_WAITING))
    satellites: dict[str, tuple[int, int, int]] = field(default_factory=dict)


class Following:
    """Listens from `start` until `stop`. awake: called from the thread when something came, once until it
    was taken. What comes is read in pieces, with a breath before each."""

    def __init__(self, rover: Address, rtcm: Address | None, awake: Callable[[], object]) -> None:
        self._links = [Link(rover)] + ([Link(rtcm)] if rtcm is not None else [])
        self._reader, self._stream = NmeaReader(), RtcmReader()
        self._held = _Held(corrections=self._said() if rtcm is not None else None)
        self._lock = threading.Lock()
        self._awake, self._told = awake, False
        self._ended = threading.Event()
        self._threads = [
            threading.Thread(target=self._listen, args=(k,), name=f"fenwind-link-{k}", daemon=True)
            for k in range(len(self._links))
        ]

    def start(self) -> None:
        """Begin to listen; links that cannot be opened are tried again and again."""
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """End it and let go of the links."""
        self._ended.set()
        for thread in self._threads:
            thread.join(5.0)

    def take(self) -> Heard:
        """What came since the last time, and how things stand."""
        with self._lock:
            epochs, self._told = tuple(self._held.epochs), False
            self._held.epochs.clear()
            return Heard(
                epochs=epochs,
                rover=self._state(0),
                corrections=self._corrections(),
                satellites=dict(self._held.satellites),
                sentences=self._held.sentences,
                wrong=self._held.wrong,
                without_height=self._held.without_height,
            )

    def _state(self, k: int) -> Stream:
        link = self._links[k]
        return Stream(
            where=str(link.where), connected=link.connected, problem=link.problem, losses=link.losses
        )

    def _corrections(self) -> Corrections | None:
        kept = self._held.corrections
        return replace(kept, link=self._state(1), age_s=self._stream.age_s) if kept is not None else None

    def _said(self) -> Corrections:
        stream = self._stream
        return Corrections(
            link=self._state(1), position=stream.position, message_set=stream.set, age_s=stream.age_s,
            satellites=sum(stream.satellites.values()), kinds=tuple(sorted(stream.kinds)), wrong=stream.wrong,
            station=stream.station,
        )  # fmt: skip

    def _listen(self, k: int) -> None:
        link = self._links[k]
        while not self._ended.is_set():
            # A read opens the link where it is not open, and waits a while before it tries again.
            try:
                data = link.read(TICK_S)
            except DeviceError as error:
                link.problem = str(error)
                self._ended.wait(TICK_S)
                continue
            for begin in range(0, len(data), PIECE):
                self._feed(k, data[begin : begin + PIECE])
            if link.ended:
                link.problem = "the log is at its end"
                break
        link.close()

    def _feed(self, k: int, data: bytes) -> None:
        if k:  # read without the lock: who asks, asks from the window and must not wait
            self._stream.feed(data)
            said = self._said()
            with self._lock:
                self._held.corrections = said
            return
        epochs, counts = self._reader.feed(data), self._reader.counts
        with self._lock:
            held = self._held
            held.sentences, held.wrong = counts.sentences, counts.wrong + counts.unread
            held.without_height = self._reader.without_height
            if not epochs:
                return
            held.satellites = dict(self._reader.satellites)
            held.epochs.extend((epoch, self._stream.position) for epoch in epochs)
            tell, self._told = not self._told, True
        if tell:
            self._awake()
