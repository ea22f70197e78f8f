"""Binary answers: peaks, samples, frames, and short stretches to listen to."""

from __future__ import annotations

import io
import re
import struct
from fractions import Fraction
from pathlib import Path

import numpy as np
from flask import Blueprint, Response, g, request
from flask.typing import ResponseReturnValue

from vesk.actions import joining
from vesk.actions.locating import located
from vesk.actions.overview import Overview
from vesk.core.conform.render import LaidPiece, laid_pieces, render_block, render_range
from vesk.core.errors import NotFoundError, NumberError, RefusedError
from vesk.core.figures import read_number, read_whole
from vesk.core.timemap import AnyMap, TimeMap, exact_seconds
from vesk.dailies.located import Located
from vesk.jobs.tasks import ask_listen
from vesk.media import answering, cache
from vesk.media.cache import FrameSize
from vesk.media.peaks import read_peaks
from vesk.store import days, pairings, recordings
from vesk.web.media.frames import ensure_frames
from vesk.web.shared import session, settings

bp = Blueprint("media", __name__, url_prefix="/media")


@bp.before_request
def _take_place() -> None:
    """Leave the other pages alone where the disk hangs: few requests read media at a time."""
    place = answering.reading()
    place.__enter__()
    g.place = place


@bp.teardown_request
def _leave_place(_error: BaseException | None) -> None:
    place = g.pop("place", None)
    if place is not None:
        place.__exit__(None, None, None)


MOST_AT_S = 1_000_000
MOST_PEAKS, MOST_SAMPLES, MOST_SECONDS = 1 << 14, 1 << 16, 30
MOST_LIGHT = 8 << 20  # bytes of a light copy in one answer
_MOST_PARTS, _MOST_ASKED = 32, 4096
_PART = re.compile(r"([0-9A-Za-z]{1,80}):(\d{1,15})-(\d{1,15})", re.ASCII)
MOST_NAME = 80
_JOINED_S = 4.0
AROUND = 12  # frames decoded on either side of the one asked for: its neighbours are asked for next


def _located(recording_id: int) -> Located:
    row = recordings.get(session(), recording_id)
    if row.state != "ready":
        raise RefusedError(row.problem)
    return located(session(), settings(), days.get_day(session(), row.day_id), row)


def _whole(name: str, low: int, high: int) -> int:
    try:
        return min(max(read_whole(request.args.get(name, "0"), least=-(1 << 44), most=1 << 44), low), high)
    except NumberError as error:
        raise RefusedError(f"{name}: {error}.") from None


def _listen_again(recording_id: int) -> None:
    """Have a recording listened to whose entry the cache let go of."""
    row = recordings.get(session(), recording_id)
    if row.state == recordings.READY and row.heard is not None:
        ask_listen(session(), row)
        session().commit()


def _kept(data: bytes, content: str, mimetype: str = "application/octet-stream") -> Response:
    """Answer with what never changes for this content."""
    response = Response(data, mimetype=mimetype)
    response.set_etag(f"{content}-{request.query_string.decode(errors='replace')}")
    response.cache_control.max_age = 86_400
    response.cache_control.private = True
    response.make_conditional(request)
    return response


@bp.get("/<int:recording_id>/peaks")
def peaks(recording_id: int) -> ResponseReturnValue:
    """Give int16 pairs (lowest, highest) of one channel: ``level``, ``start``, ``count``, ``channel``."""
    place = _located(recording_id)
    channel = _whole("channel", 0, max(0, place.facts.channels - 1))
    if not place.entry.peaks.exists():
        _listen_again(recording_id)
        raise RefusedError("Its waveform is not computed yet.")
    cache.touch(place.entry)
    data = read_peaks(
        place.entry.peaks,
        _whole("level", 0, 30),
        _whole("start", -(1 << 40), 1 << 40),
        _whole("count", 0, MOST_PEAKS),
        [channel],
    )
    return _kept(data.astype("<i2").tobytes(), place.entry.folder.name)


@bp.get("/<int:recording_id>/samples")
def samples(recording_id: int) -> ResponseReturnValue:
    """Give int16 samples of one channel: ``start``, ``count``, ``channel``."""
    place = _located(recording_id)
    channel = _whole("channel", 0, max(0, place.facts.channels - 1))
    answering.look(*place.heard_from)
    with place.reader() as reader:
        block = reader.read(_whole("start", -(1 << 40), 1 << 40), _whole("count", 0, MOST_SAMPLES))[:, channel]
    data = np.clip(np.rint(block * 32767), -32768, 32767).astype("<i2").tobytes()
    return _kept(data, place.entry.folder.name)


@bp.get("/<int:recording_id>/frame/<int:index>.jpg")
def frame(recording_id: int, index: int) -> ResponseReturnValue:
    """Give one exact picture frame; ``large`` to read what is written in it, ``full`` as it is."""
    place = _located(recording_id)
    if place.facts.frames is None or index >= place.facts.frames:
        raise RefusedError(f"{place.path.name} ends before frame {index}.")
    size = next((one for one in (FrameSize.FULL, FrameSize.LARGE) if one in request.args), FrameSize.SMALL)
    around = AROUND if size == FrameSize.SMALL else 1
    if not place.entry.frame(index, size).exists():
        ensure_frames(place, list(range(max(0, index - around), min(place.facts.frames, index + around))), size)
    # Read whole, so that no file stays open where a browser lets go of its request.
    return _kept(place.entry.frame(index, size).read_bytes(), place.entry.folder.name, "image/jpeg")


@bp.get("/<int:recording_id>/light.json")
def light_index(recording_id: int) -> ResponseReturnValue:
    """Give where each frame of a light copy lies, or of what there is of it so far; 404 until there is something."""
    place = _located(recording_id)
    data = _read(place.entry.light_index) or _read(place.entry.light_growing)
    if data is None:
        raise NotFoundError(f"{place.path.name} has no light copy yet.")
    cache.touch(place.entry)
    response = _kept(data, f"{place.entry.folder.name}-{len(data)}", "application/json")  # it grows
    response.headers["X-Content"] = place.entry.folder.name
    response.cache_control.max_age = None
    response.cache_control.no_cache = True  # a copy that was let go of is not there, whatever a browser kept
    return response


def _read(path: Path) -> bytes | None:
    try:
        return path.read_bytes()
    except OSError:
        return None


@bp.get("/light")
def light_parts() -> ResponseReturnValue:
    """Give parts of light copies, one after the other: ``parts`` (``content:low-high``, parted by commas).

    How long each is stands in ``X-Lengths``; nothing of one that was let go of.
    """
    found = [_PART.fullmatch(one) for one in request.args.get("parts", "")[:_MOST_ASKED].split(",")]
    if len(found) > _MOST_PARTS or not all(found):
        raise RefusedError("Parts of light copies are asked for as content:low-high.")
    made, left = [], MOST_LIGHT
    for content, low, high in (one.groups() for one in found if one is not None):
        part = b""
        try:
            with cache.entry_of(settings().cache, content).open_light() as file:
                file.seek(int(low))
                part = file.read(max(0, min(left, int(high) - int(low))))
        except OSError:
            pass  # let go of: it is made anew
        left -= len(part)
        made.append(part)
    response = Response(b"".join(made), mimetype="application/octet-stream")
    response.headers["X-Lengths"] = ",".join(str(len(part)) for part in made)
    response.cache_control.no_store = True  # a copy made anew is another: its index is asked for first
    return response


@bp.get("/light/<content>.mp4")
def light(content: str) -> ResponseReturnValue:
    """Give a light copy by its content, or the range of it that is asked for: nothing else is looked at for it."""
    if not (content.isascii() and content.isalnum() and len(content) <= MOST_NAME):
        raise NotFoundError("That is no light copy.")
    entry = cache.entry_of(settings().cache, content)
    asked = request.range.ranges[0] if request.range and len(request.range.ranges) == 1 else None
    try:
        with entry.open_light() as file:
            size = file.seek(0, 2)
            low = asked[0] if asked else 0
            high = min(size, asked[1] if asked and asked[1] is not None else size, low + MOST_LIGHT)
            if not 0 <= low < size or high <= low:
                return Response(status=416, headers={"Content-Range": f"bytes */{size}"})
            file.seek(low)
            data = file.read(high - low)
    except OSError:
        raise NotFoundError("This light copy was let go of; it is made anew.") from None
    whole = low == 0 and high == size
    response = Response(data, 200 if whole and not asked else 206, mimetype="video/mp4")
    response.headers["Accept-Ranges"] = "bytes"
    if response.status_code == 206:
        response.headers["Content-Range"] = f"bytes {low}-{high - 1}/{size}"
    response.cache_control.no_store = True  # a copy made anew is another: its index is asked for first
    return response


@bp.get("/listen/<int:pairing_id>.wav")
def listen(pairing_id: int) -> ResponseReturnValue:
    """Give a short stretch as laid now: ``at_s``, ``span_s``, ``mode`` (sum, split, scratch, mix), ``channel``."""
    pairing = pairings.get(session(), pairing_id)
    now = Overview(session(), days.get_day(session(), pairing.day_id)).status_of(pairing_id)
    try:
        at, span = (
            float(read_number(f"{float(request.args.get(name, '')[:40]):.9f}", least=-MOST_AT_S, most=MOST_AT_S))
            for name in ("at_s", "span_s")
        )
    except (NumberError, ValueError):
        raise RefusedError("Listening needs at_s and span_s, in seconds.") from None
    picture = located(session(), settings(), now.day, now.picture)
    sound = located(session(), settings(), now.day, now.sound)
    return _heard(picture, sound, now.laid, now.late_s, now.scratch_channel, at, span)


@bp.get("/joined/<int:day_id>.wav")
def joined(day_id: int) -> ResponseReturnValue:
    """Give a short stretch of two recordings as they would lie by the same event: ``picture_at`` and ``sound_at``."""
    day = days.get_day(session(), day_id)
    both = joining.both_of(session(), day, _whole("picture", 0, 1 << 40), _whole("sound", 0, 1 << 40))
    event = both.read(request.args.get("picture_at", "")[:40], request.args.get("sound_at", "")[:40])
    picture, sound = (located(session(), settings(), day, row) for row in (both.picture, both.sound))
    late_s = both.now.late_s if both.now else 0.0
    channel = both.now.scratch_channel if both.now else 0
    return _heard(picture, sound, TimeMap(event.place), late_s, channel, float(event.picture_s), _JOINED_S)


def _heard(
    picture: Located, sound: Located, laid: AnyMap, late_s: float, scratch_channel: int, at: float, span: float
) -> Response:
    """Render what is heard around a picture time, in the way and of the channel that the request asks for."""
    mode = request.args.get("mode", "sum")
    rate = sound.facts.sample_rate
    start = round((at - min(span, MOST_SECONDS) / 2) * rate)
    count = round(min(max(span, 0.05), MOST_SECONDS) * rate)
    channel = _whole("channel", 0, max(0, sound.facts.channels - 1))
    answering.look(*picture.heard_from, *sound.heard_from)
    with sound.reader() as reader:
        parts = laid_pieces(reader.read, reader.frames, laid, rate)
        block = render_block(parts, start, count, channels=reader.channels, sample_rate=rate)
        production = block[:, channel]
    scratch = np.zeros(count, np.float32)
    if picture.facts.channels:
        with picture.reader() as reader:
            # Distance and internal delay are known: what is summed is where the sound belongs.
            late = exact_seconds(late_s)
            back = TimeMap(-late)
            scale = picture.facts.sample_rate
            own_start = round(float((Fraction(start, rate) + late) * scale))
            if scale == rate:
                scratch = render_range(LaidPiece(reader.read, reader.frames, back), start, count, rate)[
                    :, scratch_channel
                ]
            else:
                need = reader.read(own_start, int(count * scale / rate) + 1)[:, scratch_channel]
                scratch = np.interp(np.arange(count) * scale / rate, np.arange(need.size), need).astype(np.float32)
    left, right = {
        "sum": (0.5 * (scratch + production),) * 2,
        "split": (scratch, production),
        "scratch": (scratch,) * 2,
        "mix": (production,) * 2,
    }.get(mode, (production,) * 2)
    response = Response(_wav(np.stack([left, right], axis=1), rate), mimetype="audio/wav")
    response.cache_control.no_store = True
    return response


def _wav(sound: np.ndarray, rate: int) -> bytes:
    data = np.clip(np.rint(sound * 32767), -32768, 32767).astype("<i2").tobytes()
    out = io.BytesIO()
    out.write(
        b"RIFF"
        + struct.pack("<I", 36 + len(data))
        + b"WAVEfmt "
        + struct.pack("<IHHIIHH", 16, 1, 2, rate, rate * 4, 4, 16)
    )
    out.write(b"data" + struct.pack("<I", len(data)) + data)
    return out.getvalue()
