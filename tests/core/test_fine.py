"""Fine timing by itself: a known shift, what carries no sound, the shape of a path, what a band may claim."""

import numpy as np
import pytest
from sound_material import babble, delayed, hearing

from vesk.core.sound import fine
from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.windows import lay_windows

SECONDS = 20


@pytest.fixture(scope="module")
def scene() -> np.ndarray:
    return babble(SECONDS, 81)


def crossed(picture: np.ndarray, sound: np.ndarray, path: fine.Path, *, noise: float = 0.0) -> fine.Crossed:
    one, other = hearing(picture, noise), hearing(sound, noise, 1)
    cells = lay_windows(one.seconds, other.seconds, Candidate(path.level_s, 0.0, 1.0), most=60, overlap=0.5)
    return fine.cross(one, other, cells, path)


def fitted(spectra: fine.Crossed, trust: np.ndarray | None = None) -> fine.Fit:
    whole = np.ones(spectra.cells.starts.size)
    chosen = whole > 0
    of = np.zeros(whole.size, np.int64)
    return fine.fit_together(spectra, fine.weighted(spectra, chosen), whole if trust is None else trust, of, (0.0,))


@pytest.mark.parametrize("samples", [0.37, -0.21, 0.49])
def test_a_part_of_a_sample_beyond_the_path_is_found(scene, samples):
    late = samples / WORK_RATE
    found = fitted(crossed(scene, delayed(scene, 0.25 + late), fine.Path(10.0, -0.25, 0.0)))
    assert found.path.level_s == pytest.approx(-0.25 - late, abs=1e-7)
    assert abs(found.path.slope) < 2e-9


def test_a_path_turned_over_is_turned_back(scene):
    spectra = crossed(-scene, delayed(scene, 0.1), fine.Path(10.0, -0.1, 0.0, polarity=-1))
    away, heights = fine.peaks(spectra, spectra.whitened())
    assert np.nanmax(np.abs(away)) < 2e-6
    assert np.median(heights) > 10


def test_moving_spectra_is_laying_them_anew(scene):
    sound = delayed(scene, 0.1)
    near, there = fine.Path(10.0, -0.1 + 4e-4, 2e-5), fine.Path(10.0, -0.1, 0.0)
    moved = crossed(scene, sound, near).moved(there)
    away, _ = fine.peaks(moved, moved.whitened())
    assert np.nanmedian(np.abs(away)) < 3e-6


def test_a_band_without_sound_weighs_nothing_and_breaks_nothing(scene):
    """A sound slowed by a tenth has nothing at the top of the band: its gain there must not run away."""
    spectra = crossed(scene, delayed(scene, 0.1), fine.Path(10.0, -0.1, 0.0), noise=0.002)
    empty = spectra.hertz > 6500
    spectra.y[:, empty] = 0
    weighted = fine.weighted(spectra, np.ones(spectra.cells.starts.size, bool))
    assert np.isfinite(weighted).all()
    assert np.abs(weighted[:, empty]).max() == 0
    assert np.abs(weighted[:, ~empty]).max() > 0


def test_windows_that_are_not_trusted_do_not_pull(scene):
    sound = delayed(scene, 0.1)
    spoiled = sound.copy()
    spoiled[: 6 * WORK_RATE] = np.roll(sound, 9)[: 6 * WORK_RATE]  # late there by 9 samples
    spectra = crossed(scene, spoiled, fine.Path(10.0, -0.1, 0.0), noise=0.001)
    trust = (spectra.cells.centres_s > 7.0).astype(float)
    assert fitted(spectra, trust).path.level_s == pytest.approx(-0.1, abs=2e-7)


def test_no_band_claims_more_than_a_standing_room_allows(scene):
    found = fitted(crossed(scene, delayed(scene, 0.1), fine.Path(10.0, -0.1, 0.0)))
    assert found.covariance[0, 0] >= fine.STANDING_S**2
    noisy = fitted(crossed(scene, delayed(scene, 0.1), fine.Path(10.0, -0.1, 0.0), noise=0.05))
    assert noisy.covariance[1, 1] > found.covariance[1, 1]


def test_noise_is_not_sure_of_itself():
    """Weighed by what its own noise happened to agree on, every window of two hisses agreed with the path."""
    agreed = []
    for seed in range(8):
        rng = np.random.default_rng(seed)
        hisses = (rng.normal(size=SECONDS * WORK_RATE).astype(np.float32) for _ in range(2))
        spectra = crossed(*hisses, fine.Path(10.0, 0.0, 0.0))
        own = fine.weighted(spectra, np.ones(spectra.cells.starts.size, bool)).real.sum(axis=1)
        agreed.append(own.sum() / np.sqrt((own**2).sum()))
    assert np.mean(agreed) < 1.2


def test_a_path_steps_where_it_jumps():
    path = fine.Path(10.0, 1.0, 1e-3, jumps=((5.0, 0.2), (15.0, -0.05)))
    assert path.offset_at(np.array([0.0, 5.0, 5.1, 20.0])) == pytest.approx([0.99, 0.995, 1.1951, 1.16])
