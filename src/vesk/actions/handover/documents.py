"""What lies in a package beside the takes: timelines, edit lists, reports, the hash list, and what to know first."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

from sqlmodel import Session

from vesk import VERSION
from vesk.actions import moments, watched
from vesk.actions.device_clocks import DeviceView, device_views
from vesk.actions.handover import products
from vesk.actions.handover.timeline import timeline_of
from vesk.actions.overview import Overview
from vesk.core.errors import RefusedError, StorageError
from vesk.core.handover.angles import angles_of
from vesk.core.handover.edl import edit_lists
from vesk.core.handover.elsewhere import There, read_edit_list
from vesk.core.handover.naming import named
from vesk.core.handover.read_back import unlike, unlike_list
from vesk.core.handover.recipe import Product, Recipe
from vesk.core.handover.timeline import Timeline
from vesk.core.kinds import PICTURE
from vesk.core.timecode import FrameRate, Timecode
from vesk.core.wording import signed
from vesk.dailies.report_lines import write_report
from vesk.media import hash_list, paper
from vesk.media.aaf_file import read_aaf, write_aaf
from vesk.media.otio_file import read_angles, read_otio, write_angles, write_otio
from vesk.media.whole import have_folder, written_whole
from vesk.store import sync_points
from vesk.store import watched as cuts
from vesk.store.tables import Turnover

README = "READ ME.txt"


def write_documents(
    session: Session,
    view: Overview,
    row: Turnover,
    folder: Path,
    lines: Sequence[Mapping[str, Any]],
    known: Mapping[str, str],
) -> None:
    """Write everything beside the takes into a package that is not named yet; the hash list comes last, of all files.

    What they are called, and what of them does not hold, is put into the turnover's row.

    Parameters
    ----------
    session : Session
    view : Overview
    row : Turnover
    folder : Path
        Where it is made.
    lines : sequence of mapping
        Of the report, a line a take.
    known : mapping of str to str
        Content of the takes' files by name, read just now: they are not read again.
    """
    recipe = row.recipe or Recipe(timeline=False, edl=False)
    write_report(folder / "report.csv", [dict(line) for line in lines])
    names, remarks = ["report.csv", "report.html"], list[str]()
    if recipe.timeline or recipe.edl or recipe.aaf:
        try:
            made, remarks, problem = _timelines(session, view, recipe, row, folder, known)
            cut, wrong = _rough_cuts(session, view, recipe, row, folder)
            names, problem = [*names, *made, *cut], problem or wrong
            row.says = f"IT DOES NOT HOLD: {problem} · {row.says}" if problem else row.says
        except RefusedError as error:
            remarks.append(str(error))
    first = row.says.split(" · ")[0]
    report = _report(view, row, lines, first)
    paper.write_html(paper.page_of(report), folder / "report.html")
    if recipe.pdf:
        paper.write_pdf(report, folder / "report.pdf")
        names.append("report.pdf")
    names.append(README)
    with written_whole(folder / README) as part:
        part.write_text(_read_me(view, row, folder, first, names, remarks), encoding="utf-8")
    row.documents = [*names, *_hashes(row, folder, known)]


def _timelines(
    session: Session, view: Overview, recipe: Recipe, row: Turnover, folder: Path, known: Mapping[str, str]
) -> tuple[list[str], list[str], str]:
    """Write the day's timelines; return their names, what is to be known of them, and what of them does not hold."""
    marked = sync_points.of_recordings(session, [one.id for one in view.recordings])
    ranges, notes = cuts.ranges_of_day(session, view.day.id), cuts.notes_of_day(session, view.day.id)
    timeline = timeline_of(view, recipe, marked, f"Day {view.day.number}", ranges, notes)
    names, remarks, problems = list[str](), _rounding(timeline), list[str]()
    originals = Path(view.day.folder)
    if recipe.timeline:
        final = Path(row.folder)
        where = os.path.relpath(originals, final).replace(os.sep, "/")
        lie = f"{products.FOLDERS[Product.ORIGINAL]}/"
        copied = {name.removeprefix(lie) for name in known if name.startswith(lie)}
        write_otio(timeline, folder / "day.otio", originals=where, copied=copied)
        groups = angles_of(timeline)
        write_angles(groups, folder / "moments.otio", originals=where, copied=copied)
        problems.append(unlike([timeline], [read_otio(folder / "day.otio")], "day.otio"))
        problems.append(unlike(groups, read_angles(folder / "moments.otio"), "moments.otio"))
        names += ["day.otio", "moments.otio"]
    if recipe.aaf:
        write_aaf(timeline, folder / "day.aaf", originals=originals)
        problems.append(unlike([timeline], [read_aaf(folder / "day.aaf")], "day.aaf"))
        remarks += _in_frames(timeline)
        names.append("day.aaf")
    if recipe.edl:
        lists, problem = _edit_lists(timeline, folder)
        names += lists
        problems.append(problem)
    problem = next(filter(None, problems), "")
    if not problem:
        remarks.append("read back, every clip of these timelines lies where the day has it, to the sample")
    return names, remarks, problem


def _edit_lists(timeline: Timeline, folder: Path) -> tuple[list[str], str]:
    """Write the edit lists of every device; return their names, and what of them does not hold."""
    have_folder(folder / "edit lists")
    names, problem = list[str](), ""
    for track in timeline.tracks:
        lists, read = edit_lists(timeline, track), list[There]()
        for number, text in enumerate(lists, 1):
            stem = named("{track}", {"track": track.name}) + (f"_{number}" if len(lists) > 1 else "")
            name = f"edit lists/{stem}.edl"
            with written_whole(folder / name) as part:
                part.write_text(text, encoding="utf-8", newline="\r\n")
            names.append(name)
            read += read_edit_list((folder / name).read_text(encoding="utf-8"), timeline.fps) if track.clips else []
        problem = problem or unlike_list(timeline, track.clips, read, f"the edit lists of {track.name}")
    return names, problem


def _rough_cuts(session: Session, view: Overview, recipe: Recipe, row: Turnover, folder: Path) -> tuple[list[str], str]:
    """Write the rough cuts of the day's moments, as asked for; return their names, and what of them does not hold."""
    names, problem = list[str](), ""
    where = os.path.relpath(view.day.folder, Path(row.folder, "rough cuts")).replace(os.sep, "/")
    for one in cuts.rough_cuts_of_day(session, view.day.id):
        moment = moments.moment_of(view, one.recording_id)
        for kind, asked in (("otio", recipe.timeline), ("edl", recipe.edl)):
            if asked and one.cut is not None:
                name, data = watched.cut_file(view, moment, one.cut, kind, where)
                path = have_folder(folder / "rough cuts") / name
                with written_whole(path) as part:
                    part.write_bytes(data)
                names.append(f"rough cuts/{name}")
                problem = problem or _unlike_cut(watched.cut_timeline(view, moment, one.cut), path)
    return names, problem


def _unlike_cut(timeline: Timeline, path: Path) -> str:
    """Return what of a rough cut, read back, lies elsewhere than it was laid; empty where all of it holds."""
    if path.suffix == ".otio":
        return unlike([timeline], [read_otio(path)], path.name)
    clips = [clip for track in timeline.tracks for clip in track.clips]
    if not clips:
        return ""
    return unlike_list(timeline, clips, read_edit_list(path.read_text(encoding="utf-8"), timeline.fps), path.name)


def _in_frames(timeline: Timeline) -> list[str]:
    """Return what AAF rounds, in words: it counts what a picture shows in frames of the timeline."""
    begins = [c.first * timeline.fps for track in timeline.tracks if track.kind == PICTURE for c in track.clips]
    most = max((abs(one - round(one)) for one in begins), default=Fraction(0))
    said = f"pictures of other rates begin up to {float(most):.2f} f elsewhere in their files"
    return [f"day.aaf counts in frames of the timeline: {said}"] if most else []


def _rounding(timeline: Timeline) -> list[str]:
    """Return what whole frames and samples leave, at worst, in words."""
    pictures = [abs(clip.off_s) for track in timeline.tracks if track.kind == "picture" for clip in track.clips]
    sounds = [abs(clip.off_s) for track in timeline.tracks if track.kind != "picture" for clip in track.clips]
    said = []
    if pictures:
        frames = max(pictures) * float(timeline.fps)
        said.append(f"pictures begin on whole frames of the timeline, up to {frames:.2f} f from where the day has them")
    if sounds:
        said.append(f"sounds lie under their pictures to the sample: {max(sounds) * 1e6:.0f} µs at most")
    return said


def _hashes(row: Turnover, folder: Path, known: Mapping[str, str]) -> list[str]:
    """Write the hash list of every file that the package holds."""
    files = [
        hash_list.hash_file(path, folder, known.get(path.relative_to(folder).as_posix(), ""))
        for path in sorted(folder.rglob("*"))
        if path.is_file() and hash_list.FOLDER not in path.parts and not path.name.startswith("UNFINISHED")
    ]
    listed = hash_list.write_hash_list(folder, files, name=Path(row.folder).name, by=row.made_by, version=VERSION)
    problems = hash_list.verify(folder, listed, but=known)
    if problems:
        raise StorageError(folder, f"what was written reads back otherwise: {problems[0]}")
    return [f"{hash_list.FOLDER}/{listed.name}", f"{hash_list.FOLDER}/ascmhl_chain.xml"]


def _read_me(
    view: Overview, row: Turnover, folder: Path, first: str, names: Sequence[str], remarks: Sequence[str]
) -> str:
    day = view.day
    listed = "\n".join(f"  {name}" for name in names if "/" not in name)
    said = "\n".join(f"- {one}." for one in remarks)
    folders = {
        "sound": "sound files, each as its name says; time reference as its picture",
        "movies": "the originals' pictures, packet by packet, with the good sound first",
        "timecode": "copies with their true timecode",
        "edit lists": "a list for each device",
        "originals": "the files of what goes out, byte for byte",
    }
    there = "\n".join(f"  {name}/: {what}" for name, what in folders.items() if (folder / name).is_dir())
    return (
        f"{first}\n\nDay {day.number}, {day.shot_on.isoformat()}, made by {row.made_by} with Vesk {VERSION}.\n"
        f"Originals that are not in this package are referred to in {day.folder}.\n\n"
        f"Folders:\n{there}\n\nDocuments:\n{listed}\n\n{said}\n\n"
        "The hash list in ascmhl/ names every file of this package with its size and hash.\n"
    )


def _report(view: Overview, row: Turnover, lines: Sequence[Mapping[str, Any]], first: str) -> paper.PaperReport:
    takes = tuple(_take(line) for line in lines)
    missing = tuple(
        f"{line['picture']}: {line['reason']}" for line in lines if line["delivered"] == "no" and line["reason"]
    )
    day = view.day
    title = f"Day {day.number} · {day.shot_on.isoformat()} · turnover {Path(row.folder).name}"
    said = (f"Recipe: {row.named or 'without a name'}; made by {row.made_by}.", *row.says.split(" · ")[1:])
    return paper.PaperReport(title, first, said, takes, missing, tuple(_clocks(view)))


def _take(line: Mapping[str, Any]) -> paper.PaperTake:
    done = []
    if str(line["slip_frames"]).strip("+-0. "):
        done.append(f"slip {line['slip_frames']} f")
    if str(line["rate_ppm"]).strip("+-0. "):
        done.append(f"rate {line['rate_ppm']} ppm" + (", picture retimed" if line["retimed"] == "picture" else ""))
    left = [line[f"residual_{place}_ms"] for place in ("head", "middle", "tail")]
    return paper.PaperTake(
        " / ".join(part for part in (line["scene"], line["take"]) if part), line["picture"], line["start"],
        line["sound"], line["found"], ", ".join(done), ", ".join(left) + " ms" if all(left) else "",
        line["checked_by"], line["file"], line["reason"], line["remark"],
    )  # fmt: skip


def _clocks(view: Overview) -> list[paper.PaperClock]:
    """Return the clocks of the day's devices as small plots to one scale."""
    views = [one for one in device_views(view) if one.shown.segments]
    fps = float(view.day.fps)
    ends = [at for one in views for segment in one.shown.segments for at in (segment.since_s, segment.until_s)]
    frames = [abs(ahead) * fps for one in views for s in one.shown.segments for ahead in s.ahead_s if abs(ahead) < 5]
    if not ends:
        return []
    low, high, tall = min(ends), max(*ends, min(ends) + 1), max([0.5, *frames]) * 1.15
    return [_clock(one, fps, (low, high), tall, FrameRate(view.day.fps, view.day.drop)) for one in views]


def _clock(one: DeviceView, fps: float, ends: tuple[float, float], tall: float, clock: FrameRate) -> paper.PaperClock:
    def place(at: float, ahead: float) -> tuple[float, float]:
        share = (at - ends[0]) / (ends[1] - ends[0])
        return round(40 + 740 * share, 1), round(40 - 36 * max(-1.0, min(1.0, ahead * fps / tall)), 1)

    shown = one.shown
    lines = tuple(
        " ".join(f"{x},{y}" for x, y in (place(s.since_s, s.ahead_s[0]), place(s.until_s, s.ahead_s[1])))
        for s in shown.segments
    )
    first, last = shown.segments[0], shown.segments[-1]
    from_, until = (str(Timecode.at(Fraction(round(at)), clock))[:8] for at in (first.since_s, last.until_s))
    says = (
        f"against {shown.truth}, {from_} to {until}: {signed(first.ahead_s[0] * fps, 2)} f at first, "
        f"{signed(last.ahead_s[1] * fps, 2)} f at last, {signed(last.ppm, 2)} ppm"
    )
    return paper.PaperClock(
        shown.device, says, lines, tuple(place(at, ahead) for _, at, ahead in shown.marks), f"{tall:.2f}"
    )
