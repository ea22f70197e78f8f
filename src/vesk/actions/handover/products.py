"""The files of one take: its sound laid on the picture, by channel where asked, and its movie."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from fractions import Fraction
from pathlib import Path

from vesk.actions.channels import channels_of
from vesk.actions.facts import facts_of
from vesk.actions.pairing_status import PairingStatus
from vesk.core.conform.correction import Errors
from vesk.core.conform.written import Written
from vesk.core.errors import MediaError, RefusedError, StoppedError, StorageError, VeskError
from vesk.core.handover.naming import named
from vesk.core.handover.recipe import Product, Recipe, SoundForm
from vesk.core.timecode import FrameRate, Timecode, nearest_rate
from vesk.core.wording import signed
from vesk.dailies import delivering
from vesk.dailies.located import Located
from vesk.media import checksum, movie_sound, scan, wave
from vesk.media.movie_copy import Carried, LaidTrack, carried_by, copy_movie
from vesk.media.picture_packets import part_of, same_part, same_picture
from vesk.media.sound import SoundReader
from vesk.media.whole import have_folder
from vesk.settings import Settings

FOLDERS = {Product.SOUND: "sound", Product.MOVIE: "movies", Product.TIMECODE: "timecode", Product.ORIGINAL: "originals"}
WORK = ".work"  # in a package while it is made: what is laid before it is put in its place
Key = tuple[Product, int]


@dataclass
class Names:
    """Which names a package has already: none is given twice, in whatever letters."""

    taken: set[str] = field(default_factory=set)

    def give(self, folder: str, stem: str, ending: str, otherwise: str) -> str:
        """Return a name of a file that is new; `otherwise` tells two of one name apart."""
        name = f"{folder}/{stem}{ending}"
        number = 1
        while name.casefold() in self.taken:
            name = f"{folder}/{stem}_{otherwise}{f'_{number}' if number > 1 else ''}{ending}"
            number += 1
        self.taken.add(name.casefold())
        return name


@dataclass(frozen=True, slots=True)
class Take:
    """What is handed over of one picture file.

    Attributes
    ----------
    picture : Located
    begins : Fraction
        Where the file begins on its recording's picture time, seconds.
    active : tuple of PairingStatus
        What was checked.
    sounds : tuple of Located
        The recorders' of those.
    scene, take, source, project : str
    number : int
        Of its recording, to tell two of one name apart.
    shot_on : date
    day : int
    kept : (int, int) or None
        Which of the file's frames go out, the second not any more; None: all.
    """

    picture: Located
    begins: Fraction
    active: tuple[PairingStatus, ...]
    sounds: tuple[Located, ...]
    scene: str
    take: str
    source: str
    project: str
    number: int
    shot_on: date
    day: int
    kept: tuple[int, int] | None = None

    @property
    def from_s(self) -> Fraction:
        """Second of the file that what goes out begins with."""
        fps = self.picture.facts.fps
        return Fraction(self.kept[0]) / fps if self.kept and fps else Fraction(0)


def keys_of(recipe: Recipe, active: Sequence[PairingStatus]) -> list[Key]:
    """Return which files a take becomes.

    Parameters
    ----------
    recipe : Recipe
    active : sequence of PairingStatus
        What was checked.
    """
    made: list[Key] = []
    if recipe.sound == SoundForm.PICTURE:
        made.append((Product.SOUND, 0))
    elif recipe.sound == SoundForm.CHANNEL:
        count = max((len(channels_of(recipe, now)) for now in active), default=1)
        made += [(Product.SOUND, number) for number in range(count)]
    if recipe.movies:
        made.append((Product.MOVIE, 0))
    return made


@dataclass
class Made:
    """What became of a take: its files, and why others of it could not be made. One that fails costs only itself."""

    files: dict[Key, Written] = field(default_factory=dict)
    reasons: dict[Key, str] = field(default_factory=dict)


def make_take(
    settings: Settings, recipe: Recipe, folder: Path, take: Take, names: Names, go_on: Callable[[], bool]
) -> Made:
    """Make all files of a take, measured again; where the take as a whole fails nothing of it stays.

    Raises
    ------
    RefusedError
        If it cannot be handed over so.
    MediaError
        If a file cannot be read.
    StorageError
        If the disk is full.
    StoppedError
        If it was asked to stop.
    """
    made = Made()
    keys = keys_of(recipe, take.active)
    if not keys:
        return made
    laid = have_folder(folder / WORK) / f"{take.number}.wav"
    try:
        written = _lay(settings, recipe, take, laid, go_on)
        if recipe.movies:
            try:
                made.files[Product.MOVIE, 0] = _movie(recipe, folder, take, laid, written, names, go_on)
            except (StorageError, StoppedError):
                raise
            except VeskError as error:  # its sound is whole all the same
                made.reasons[Product.MOVIE, 0] = str(error)
        for key, own in _sounds(recipe, folder, take, laid, written, names):
            made.files[key] = own
    except BaseException:
        for one in made.files.values():
            (folder / one.name).unlink(missing_ok=True)
            names.taken.discard(one.name.casefold())
        raise
    finally:
        laid.unlink(missing_ok=True)
    return made


def _lay(settings: Settings, recipe: Recipe, take: Take, laid: Path, go_on: Callable[[], bool]) -> Written:
    """Lay a take's sound on its picture, and measure it again as it lies on disk."""
    active = take.active
    stretch = stretch_of(active)
    parts = [
        delivering.Laid(sound, now.timed_as.laid.shifted(-take.begins * stretch), channels_of(recipe, now))
        for sound, now in zip(take.sounds, active, strict=True)
    ]
    done = delivering.deliver(
        take.picture, parts, laid, scene=take.scene, take=take.take, project=take.project, shot_on=take.shot_on,
        stretch=stretch, kept=take.kept, go_on=go_on,
    )  # fmt: skip
    residual: Errors | None
    residual, why = delivering.measure_again(
        done.path, take.picture, late_s=active[0].late_s, workplace=settings.cache / f"again-{os.getpid()}",
        channels=_matched(active, parts), stretch=stretch, begins=take.from_s,
        scratch_steps=active[0].judged.scratch_steps,
    )  # fmt: skip
    remarks = [done.remark, *map(placed_by_clock, active), *map(_disagreed, active)]
    remarks += [now.as_corrected.mends for now in active]
    remarks += [now.judged.scratch_told for now in active]
    return Written(
        "", "", done.samples, done.sample_rate, done.channels, done.time_reference, "; ".join(filter(None, remarks)),
        residual.all if residual else None, why, float(active[0].tolerance.seconds(active[0].fps)),
    )  # fmt: skip


def _matched(active: Sequence[PairingStatus], parts: Sequence[delivering.Laid]) -> tuple[int, int] | None:
    """Return the channels of picture and of what was made that the two were matched with; None where it is left out."""
    for now, part in zip(active, parts, strict=True):
        if now.found is not None and now.found.line is not None:
            chosen = part.channels or tuple(range(part.sound.facts.channels))
            if now.found.channel in chosen:
                return now.found.picture_channel, chosen.index(now.found.channel)
    return None


def _sounds(
    recipe: Recipe, folder: Path, take: Take, laid: Path, written: Written, names: Names
) -> Iterator[tuple[Key, Written]]:
    """Give the laid sound its name, or part it by channel."""
    home = FOLDERS[Product.SOUND]
    if recipe.sound not in {SoundForm.PICTURE, SoundForm.CHANNEL}:
        return
    have_folder(folder / home)
    if recipe.sound == SoundForm.PICTURE:
        name = names.give(home, named(recipe.pattern, _values(take)), ".wav", f"{take.source}_{take.number}")
        laid.replace(folder / name)
        yield (Product.SOUND, 0), replace(written, name=name, content=checksum.whole_hash(folder / name))
        return
    header = wave.read_header(laid)
    tracks = delivering.track_names(laid)
    pattern = recipe.pattern
    if "{channel}" not in pattern and "{track}" not in pattern:
        pattern += "_{channel}"
    for number in range(written.channels):
        track = tracks[number] if number < len(tracks) else f"channel {number + 1}"
        values = _values(take) | {"channel": str(number + 1), "track": track}
        name = names.give(home, named(pattern, values), ".wav", f"{take.source}_{take.number}")
        with SoundReader(laid) as reader:
            blocks = (
                reader.read(at, min(delivering.BLOCK, reader.frames - at))[:, number : number + 1]
                for at in range(0, reader.frames, delivering.BLOCK)
            )
            text = delivering.ixml_of_channel(header.ixml, track)
            wave.write_wave(
                folder / name, blocks, sample_rate=written.sample_rate, channels=1, bext=header.bext, ixml=text
            )
        yield (
            (Product.SOUND, number),
            replace(written, name=name, content=checksum.whole_hash(folder / name), channels=1),
        )


def _movie(
    recipe: Recipe, folder: Path, take: Take, laid: Path, written: Written, names: Names, go_on: Callable[[], bool]
) -> Written:
    """Make the movie with good sound, and look that it is what it should be."""
    picture = take.picture
    stretch = stretch_of(take.active)
    carried = _carried(take, stretch)
    home = FOLDERS[Product.MOVIE]
    have_folder(folder / home)
    stem = named("{picture}", _values(take))
    name = names.give(home, stem, carried.ending, f"{take.source}_{take.number}")
    target = folder / name
    track = LaidTrack(laid, tuple(range(written.channels)), "production sound")
    beside = _beside(take) if recipe.scratch and stretch == 1 else []
    try:
        copy_movie(
            picture.file, target, tracks=[track, *beside], scratch=recipe.scratch,
            timecode=label_of(take, stretch), kept=take.kept, stretch=stretch, go_on=go_on,
        )  # fmt: skip
        problem = _unlike(take, target, laid, written.channels, stretch)
        if problem:
            raise MediaError(target, problem, "It was taken away again; its sound is whole.")
    except BaseException:
        target.unlink(missing_ok=True)
        names.taken.discard(name.casefold())
        raise
    remark = "; ".join(filter(None, [written.remark, carried.remark, _longer(picture.file, take.kept)]))
    return replace(written, name=name, content=checksum.whole_hash(target), remark=remark)


def _beside(take: Take) -> list[LaidTrack]:
    """Return the camera's own sound where it lies in files beside the picture: it goes into the movie as scratch."""
    made = []
    for one in take.picture.sounding:
        facts = one.facts
        span = None
        if take.kept is not None:
            fps = take.picture.facts.fps or Fraction(25)
            first, last = (round(Fraction(frame) / fps * facts.sample_rate) for frame in take.kept)
            span = first, last
        path = one.entry.sound if facts.coded else one.file
        made.append(LaidTrack(path, tuple(range(facts.channels)), "scratch", span))
    return made


def _carried(take: Take, stretch: Fraction) -> Carried:
    """Return the container of a take's movie, and what is to be known of it."""
    carried = carried_by(take.picture.file, take.picture.facts.codec, take.kept)
    if stretch == 1:
        return carried
    said = "its picture plays as it is retimed, packet by packet, without the camera's own sound"
    why = carried.remark if carried.ending == ".mov" else "MOV, which can hold that"
    return Carried(".mov", f"{said}; {why}" if why else said)


def label_of(take: Take, stretch: Fraction) -> str:
    """Return the label of a movie's first frame where that is not its header's; empty where it is."""
    label = true_label(take.active, take.begins + take.from_s)
    facts = take.picture.facts
    if not facts.timecode or facts.fps is None:
        return label
    clock = FrameRate(facts.timecode_rate or facts.fps, facts.drop)
    if stretch == 1 and clock.fps == facts.fps and (label or take.kept is None):
        return label
    first = Timecode.parse(label, clock).seconds if label else Timecode.parse(facts.timecode, clock).seconds
    first += 0 if label else take.from_s
    rate = nearest_rate(facts.fps / stretch) or clock.fps
    as_it_counts = rate == clock.fps or (FrameRate(rate).nominal == clock.nominal and not clock.drop)
    if as_it_counts:
        return delivering.label_at(first, facts)
    # A movie that is made here counts its picture's frames, where the original counted every other.
    return str(Timecode.at(first, FrameRate(rate, clock.drop and (rate / clock.fps).denominator == 1)))


def _longer(original: Path, kept: tuple[int, int] | None) -> str:
    """Return that a movie ends later than was asked for, where its last frames lean on later ones."""
    more = 0 if kept is None else part_of(original, kept).frames - (kept[1] - kept[0])
    return f"its movie shows {more} more {'frame' if more == 1 else 'frames'}, which its last lean on" if more else ""


def _unlike(take: Take, made: Path, laid: Path, channels: int, stretch: Fraction) -> str:
    """Return what of a movie is not as it must be: picture packets, and sound from its first frame on; empty if all is.

    It is opened as a stranger would.
    """
    original, kept = take.picture.file, take.kept
    same = same_picture(original, made, stretch) if kept is None else same_part(original, made, kept, stretch)
    if not same:
        return "its picture is not the original's, packet by packet"
    at = 0
    with SoundReader(laid) as reader:
        for block in movie_sound.sound_blocks(made):
            own = reader.read(at, min(block.shape[0], reader.frames - at))
            if not (block[: own.shape[0], :channels] == own).all():
                return f"its sound is another from {at / reader.sample_rate:.2f} s on"
            at += own.shape[0]
        return "" if at == reader.frames else "its sound ends early"


def _values(take: Take) -> dict[str, str]:
    """Return what the words of a pattern stand for."""
    stem = scan.as_text(take.picture.path.stem)
    sound = scan.as_text(take.sounds[0].path.stem) if take.sounds else ""
    recorder = take.active[0].sound_source.tag if take.active else ""
    return {
        "picture": stem, "scene": take.scene, "take": take.take, "camera": take.source, "sound": sound,
        "recorder": recorder, "reel": take.picture.facts.tape, "day": str(take.day),
        "date": take.shot_on.isoformat(),
    }  # fmt: skip


def true_label(active: Sequence[PairingStatus], begins: Fraction) -> str:
    """Return the label that a movie gets where another clock than its header counts; empty where that one does."""
    now = active[0] if active else None
    if now is None or now.picture.clock is None or now.picture.clock != "LTC" or now.picture.start is None:
        return ""
    return delivering.label_at(now.picture.start + begins, facts_of(now.picture))


def stretch_of(active: Sequence[PairingStatus]) -> Fraction:
    """Return how many seconds a take's picture plays for one as recorded.

    Raises
    ------
    RefusedError
        If its sounds want it to play at different rates.
    """
    found = {now.timed_as.stretch for now in active}
    if len(found) > 1:
        rates = ", ".join(sorted(f"{now.sound.name}: {float(now.timed_as.fps):.6f}" for now in active))
        raise RefusedError(
            f"its sounds ask for different rates of one picture ({rates} frames a second). Take the picture for the "
            "truth in all but one of them"
        )
    return found.pop() if found else Fraction(1)


def placed_by_clock(now: PairingStatus) -> str:
    """Return the remark of a take that no one heard; empty for any other."""
    place = now.judged.place
    if not now.by_clock or place is None:
        return ""
    band = signed(1.96 * place.se_s * float(now.fps), 2).lstrip("+")
    return f"{now.sound.name}: placed by clock, within {band} f (95 %); nobody heard it"


def _disagreed(now: PairingStatus) -> str:
    """Return the remark of a take whose evidence disagrees, and that a person let out all the same."""
    if now.contradiction is None or now.verdict is None or now.check is None:
        return ""
    return f"{now.sound.name}: {now.verdict.brief}; checked all the same by {now.check.made_by}"
