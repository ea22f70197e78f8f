"""Finding partners by sound alone, among files that are no partner."""

from dataclasses import replace

import numpy as np
import soundfile

from vesk.dailies import measuring, searching
from vesk.dailies.located import locate
from vesk.dailies.searching import find_partners
from vesk.simulator.voices import RATE, speech


def test_a_voice_that_only_a_lav_holds_finds_its_take(tmp_path):
    """The mix and the boom hear somebody else altogether; so do the other takes."""
    rng = np.random.default_rng(8)
    near, far = speech(24, 71), speech(24, 72)

    def write(name, *channels):
        noisy = [one + 0.001 * rng.normal(size=one.size) for one in channels]
        soundfile.write(tmp_path / name, np.stack(noisy, axis=1).astype(np.float32), RATE)
        return locate(tmp_path / name, tmp_path / "cache")

    alone = write("alone.wav", near[RATE * 3 : RATE * 19])
    others = {
        "take.wav": write("take.wav", far, far, speech(24, 73), near),
        "other.wav": write("other.wav", *(speech(24, seed) for seed in (81, 82, 83, 84))),
    }
    (found,) = find_partners("alone.wav", alone, others)
    assert {found.picture, found.sound} == {"alone.wav", "take.wav"}
    assert found.found.decision == "matched"
    assert abs(abs(found.found.line.offset_s) - 3.0) < 1e-4


def test_what_stays_a_question_is_measured_once(tmp_path, monkeypatch):
    voice = speech(24, 71)
    for name, sound in (("alone.wav", voice[RATE * 3 : RATE * 19]), ("take.wav", np.stack([voice] * 3, axis=1))):
        soundfile.write(tmp_path / name, sound.astype(np.float32), RATE)
    alone, take = (locate(tmp_path / name, tmp_path / "cache") for name in ("alone.wav", "take.wav"))
    real, asked = measuring.measure_by_sound, []

    def doubtful(*given, **more):
        asked.append(given)
        return replace(real(*given, **more), decision="ambiguous")

    monkeypatch.setattr(measuring, "measure_by_sound", doubtful)
    (found,) = find_partners("alone.wav", alone, {"take.wav": take})
    assert found.found.decision == "ambiguous"
    assert len(asked) == 1


def test_a_take_is_found_among_many_laid_together_whichever_of_the_two_has_the_picture(tmp_path, monkeypatch):
    """Six recordings of a day; one holds the take, at an odd place, and its neighbours begin and end just beside."""
    rng = np.random.default_rng(3)
    voices = [speech(30, 200 + n) for n in range(6)]

    def write(name, sound):
        soundfile.write(tmp_path / name, (sound + 0.001 * rng.normal(size=sound.size)).astype(np.float32), RATE)
        return locate(tmp_path / name, tmp_path / "cache")

    others = {f"{n}.wav": write(f"{n}.wav", voice) for n, voice in enumerate(voices)}
    take = write("take.wav", voices[4][RATE * 9 : RATE * 22])
    pairwise = []
    monkeypatch.setattr(searching, "_rough", lambda *given: pairwise.append(given))
    for kind, sign in (("sound", 1), ("picture", -1)):
        one = replace(take, facts=replace(take.facts, kind=kind))
        (found,) = find_partners("take", one, others)
        assert {found.picture, found.sound} == {"take", "4.wav"}
        assert abs(found.found.line.offset_s - sign * 9.0) < 1e-3
    assert pairwise == []  # nobody was asked one by one
    stranger = write("stranger.wav", speech(13, 300))
    assert find_partners("stranger", stranger, others) == []
    assert pairwise  # what is found nowhere is asked for channel by channel


def test_of_many_takes_of_one_song_the_one_is_found_whose_slate_is_heard(tmp_path):
    """Nine takes: more than are looked at for one moment; the camera's file begins while the slate is being said."""
    rng = np.random.default_rng(6)
    song, takes = 1.6 * speech(9, 700), {}
    for n in range(9):
        whole = 0.001 * rng.normal(size=RATE * 17)
        for at, sound in ((1.0 + 0.1 * n, 0.5 * speech(2.5, 710 + n)), (5.0 + 0.23 * n, song)):
            whole[int(at * RATE) : int(at * RATE) + sound.size] += sound
        takes[f"{n}.wav"] = written(tmp_path / f"{n}.wav", whole)
        if n == 6:
            seen = whole[int(2.9 * RATE) :]
            one = written(tmp_path / "picture.wav", seen + 0.003 * rng.normal(size=seen.size))
    made_by = dict.fromkeys(takes, "S1")
    for kind, sign in (("picture", -1), ("sound", 1)):
        found = find_partners("picture", replace(one, facts=replace(one.facts, kind=kind)), takes, made_by=made_by)
        assert [{pair.picture, pair.sound} for pair in found] == [{"picture", "6.wav"}]
        assert abs(found[0].found.line.offset_s - sign * 2.9) < 1e-3
    # Of devices that are not known to be one, each may be right.
    assert len(find_partners("picture", replace(one, facts=replace(one.facts, kind="picture")), takes)) > 1


def test_one_search_answers_for_whoever_asks_again_and_for_nobody_else(tmp_path, monkeypatch):
    voice = speech(14, 71)
    alone, take = (written(tmp_path / f"{n}.wav", voice[RATE * n : RATE * 13]) for n in (2, 0))
    real, asked = searching.find_partners, []
    monkeypatch.setattr(searching, "find_partners", lambda *given, **more: asked.append(given) or real(*given, **more))
    searches = searching.Searches()
    (first,), (again,) = (searches.partners(key, alone, {"take": take}, {"take": "A"}) for key in ("part", "whole"))
    assert ({first.picture, first.sound}, {again.picture, again.sound}) == ({"part", "take"}, {"whole", "take"})
    assert (len(asked), again.found) == (1, first.found)
    searches.partners("whole", alone, {"take": take}, {"take": "B"})
    searches.partners("whole", take, {"take": take}, {"take": "B"})
    assert len(asked) == 3


def written(path, sound):
    soundfile.write(path, sound.astype(np.float32), RATE)
    return locate(path, path.parent / "cache")


def pictures_of(recordings):
    return {name: replace(one, facts=replace(one.facts, kind="picture")) for name, one in recordings.items()}


def test_a_recording_that_ran_on_finds_every_take_that_lies_in_it(tmp_path):
    """Five takes of a recorder in one roll of a camera without a clock; of longer files, others' takes, there are four.

    One of those holds the beginning of another roll: what follows there is not given up for it.
    """
    rng = np.random.default_rng(4)
    voice = speech(75, 500)

    def write(name, sound):
        soundfile.write(tmp_path / name, (sound + 0.001 * rng.normal(size=sound.size)).astype(np.float32), RATE)
        return locate(tmp_path / name, tmp_path / "cache")

    roll = write("roll.wav", voice)
    roll = replace(roll, facts=replace(roll.facts, kind="picture"))
    begins = (2, 16, 31, 45, 60)
    takes = {f"{at}.wav": write(f"{at}.wav", voice[RATE * at : RATE * (at + 11)]) for at in begins}
    found = find_partners("roll", roll, takes)
    assert {one.sound: round(one.found.line.offset_s, 3) for one in found} == {f"{at}.wav": at for at in begins}
    others = {f"long {n}.wav": write(f"long {n}.wav", speech(42, 600 + n)) for n in range(4)}
    others["first.wav"] = write("first.wav", voice[: RATE * 40])
    late = {name: one for name, one in takes.items() if name in {"45.wav", "60.wav"}}
    found = find_partners("roll", roll, others | late)
    assert {one.sound for one in found} == {"first.wav", "45.wav", "60.wav"}
    # Every recorder that ran then holds it.
    five = {f"S{n}.wav": write(f"S{n}.wav", voice[RATE * 3 : RATE * 17] * (0.5 + 0.1 * n)) for n in range(1, 6)}
    assert {one.sound for one in find_partners("2.wav", pictures_of(takes)["2.wav"], five)} == set(five)
    # The other way round a recorder ran on, and cameras made the takes.
    found = find_partners("roll", replace(roll, facts=replace(roll.facts, kind="sound")), pictures_of(takes))
    assert {one.picture: round(one.found.line.offset_s, 3) for one in found} == {f"{at}.wav": -at for at in begins}
