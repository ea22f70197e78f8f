"""What ran at one moment, laid on one axis: that of the recording it is about, its own time from its first frame.

What a pairing joins is laid by what stands of it, step by step from that recording; what nothing joins lies where its
clock says. So a camera's picture and a recorder's sound lie here just as they are handed over.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from vesk.core.handover.timeline import Joined
from vesk.core.timemap import AnyMap, TimeMap, composed, inverted


@dataclass(frozen=True, slots=True)
class Running:
    """A recording of the day.

    Attributes
    ----------
    key, tag : str
        Its own, and its device's.
    picture : bool
    duration : Fraction
        Seconds of its own, as it plays.
    at : Fraction or None
        Where it begins by clocks, seconds on the day's label clock; None where nothing says.
    pace : Fraction
        Seconds of the day for each of its own: 1 but for what is off-speed.
    """

    key: str
    tag: str
    picture: bool
    duration: Fraction
    at: Fraction | None
    pace: Fraction = Fraction(1)


@dataclass(frozen=True, slots=True)
class Laid:
    """A recording laid on the axis of a moment.

    Attributes
    ----------
    own : Running
    to_axis : AnyMap
        Its own seconds to seconds of the axis.
    through : str or None
        Key of the recording that it is joined to, on the way to the one that the moment is about; None: its clock.
    """

    own: Running
    to_axis: AnyMap
    through: str | None

    @property
    def begins(self) -> Fraction:
        """Where it begins, seconds of the axis."""
        return self.to_axis(Fraction(0))

    @property
    def ends(self) -> Fraction:
        """Where it ends, seconds of the axis."""
        return self.to_axis(self.own.duration)


def lay_moment(about: str, every: Sequence[Running], joined: Sequence[Joined], first: str = "") -> list[Laid]:
    """Lay everything that ran with a recording on that one's axis.

    Parameters
    ----------
    about : str
        Its key.
    every : sequence of Running
        The day's recordings.
    joined : sequence of Joined
        What belongs together and how it is laid.
    first : str
        Tag of the recorder whose joins count before the others'.

    Returns
    -------
    list of Laid
        What shares time with it, itself first; the others by device and time.
    """
    by_key = {one.key: one for one in every}
    own = by_key[about]
    found: dict[str, Laid] = {about: Laid(own, TimeMap(Fraction(0)), None)}
    links: dict[str, list[Joined]] = {}
    for link in joined:
        if link.picture in by_key and link.sound in by_key:
            links.setdefault(link.picture, []).append(link)
            links.setdefault(link.sound, []).append(link)
    queue = [about]
    for key in queue:
        ordered = sorted(
            links.get(key, ()),
            key=lambda link: (by_key[link.sound].tag != first, not link.checked, link.picture, link.sound),
        )
        for link in ordered:
            other = link.sound if key == link.picture else link.picture
            if other in found:
                continue
            step = link.laid if key == link.picture else inverted(link.laid)
            laid = Laid(by_key[other], composed(found[key].to_axis, step), key)
            if _shares(laid, own):  # what rolls on past the moment leads nowhere else
                found[other] = laid
                queue.append(other)
    for one in every:
        if one.key not in found and one.at is not None and own.at is not None:
            laid = Laid(one, TimeMap((one.at - own.at) / own.pace, one.pace / own.pace), None)
            if _shares(laid, own):
                found[one.key] = laid
    rest = sorted((laid for key, laid in found.items() if key != about), key=lambda laid: (laid.own.tag, laid.begins))
    return [found[about], *rest]


def _shares(laid: Laid, own: Running) -> bool:
    return laid.begins < own.duration and laid.ends > 0


def apart(picture: Laid, sound: Laid, joined: AnyMap, at: Fraction) -> Fraction:
    """Return how much later a sound lies on a picture here than its own pairing lays it, seconds.

    They differ where the two are laid through a third recording.

    Parameters
    ----------
    picture, sound : Laid
    joined : AnyMap
        Sound seconds to picture seconds as their pairing lays them.
    at : Fraction
        Picture time, seconds.
    """
    here = composed(inverted(picture.to_axis), sound.to_axis)
    moment = inverted(joined)(at)
    return here(moment) - joined(moment)
