"""Grow the hit judge's trees on strange kits: ``make judge KITS=440`` (some forty minutes on two cores; needs the ``teach`` extra).

Kits are generated once into a work folder. Of ten kits nine teach and one is kept to show how well it went; each later set of trees learns
from what an earlier one says that has not seen the kit.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import lightgbm
import numpy as np

from arkund.core.hits import evidence, judge
from arkund.core.hits.bands import Bands, measure_bands
from arkund.core.hits.settings import HitSettings
from tools import recorded
from tools.strange_kits import strange_kit

GROW = {
    "objective": "binary", "learning_rate": 0.06, "num_leaves": 31, "min_data_in_leaf": 40, "feature_fraction": 0.5,
    "bagging_fraction": 0.7, "bagging_freq": 1, "lambda_l2": 5.0, "num_threads": 2, "verbose": -1, "seed": 1,
}  # fmt: skip
ROUNDS = 400
KEPT_BACK = 10  # each tenth kit
NEAR_FROM_MS, NEAR_TO_MS = -4.0, 5.0  # of a true stroke: other candidates there neither teach nor count
WITHIN_MS = 5.0
CYMBALS = ("hihat", "ride", "crash", "sticks")
HIT, NOT_A_HIT, UNCLEAR = 1, 0, -1


def measured(number: int, folder: Path) -> Path:
    """Generate and measure a kit, or take it from the folder."""
    path = folder / f"{number}.npz"
    if not path.exists():
        kit = strange_kit(number)
        bands = measure_bands(kit.readers, kit.sample_rate_hz)
        truth = [(p, h.time_s * 1000.0, h.ghost) for p, hits in kit.truth.items() for h in hits]
        small = {name: (10 * np.log10(getattr(bands, name) + 1e-12)).astype(np.float16) for name in ("power", "quick")}
        part = path.with_suffix(".part.npz")
        np.savez(part, channels=np.array(kit.channels, object), truth=np.array(truth, object), **small)
        part.rename(path)
    return path


def load(path: Path) -> tuple[evidence.Scene, list[tuple]]:
    """Return a measured kit's scene and its true strokes (piece, ms, ghost)."""
    with np.load(path, allow_pickle=True) as table:  # our own file
        bands = Bands(*(10 ** (table[name].astype(np.float32) / 10) for name in ("power", "quick")))
        return evidence.scene(bands, list(table["channels"])), [tuple(row) for row in table["truth"]]


def labels(s: evidence.Scene, truth: list[tuple]) -> np.ndarray:
    """Return for each candidate whether it is a true stroke."""
    out = np.zeros(s.frames.size, np.int8)
    for number, name in enumerate(s.names):
        mine = np.flatnonzero(s.pieces == number)
        for at_ms in (ms for ms, _ in strokes_of(name, s, truth)):
            away = s.frames[mine] - at_ms
            near = mine[(away > NEAR_FROM_MS) & (away < NEAR_TO_MS)]
            if near.size:
                out[near[out[near] != HIT]] = UNCLEAR
                out[near[np.argmin(np.abs(s.frames[near] - at_ms - 0.3))]] = HIT
    return out


def strokes_of(name: str, s: evidence.Scene, truth: list[tuple]) -> list[tuple]:
    """Return (ms, ghost) of a piece's true strokes, or of all cymbals without a mic."""
    if name == evidence.ELSEWHERE:
        return sorted((ms, ghost) for piece, ms, ghost in truth if piece in CYMBALS and piece not in s.names)
    return sorted((ms, ghost) for piece, ms, ghost in truth if piece == name)


def first_hearing(path: Path) -> tuple[np.ndarray, np.ndarray]:
    s, truth = load(path)
    return evidence.heard(s), labels(s, truth)


def heard_again(path: Path, sure: np.ndarray, asked: np.ndarray) -> np.ndarray:
    s, _ = load(path)
    return judge.again(s, evidence.heard(s), sure, asked)


def grow(measures: list[np.ndarray], answers: list[np.ndarray]) -> lightgbm.Booster:
    clear = [answer != UNCLEAR for answer in answers]
    x, y = (np.concatenate([each[k] for each, k in zip(some, clear, strict=True)]) for some in (measures, answers))
    return lightgbm.train(GROW, lightgbm.Dataset(x, y), ROUNDS)


def table(booster: lightgbm.Booster) -> dict[str, np.ndarray]:
    """Return the nodes of all trees as the columns that ``core.trees.trees.Trees`` holds."""
    rows, roots = [], []

    def add(node: dict) -> int:
        at = len(rows)
        rows.append(None)
        if "leaf_value" in node:
            rows[at] = (-1, 0.0, 0, 0, node["leaf_value"])
        else:
            left, right = add(node["left_child"]), add(node["right_child"])
            rows[at] = (node["split_feature"], node["threshold"], left, right, 0.0)
        return at

    for tree in booster.dump_model()["tree_info"]:
        roots.append(add(tree["tree_structure"]))
    feature, threshold, left, right, value = zip(*rows, strict=True)
    return {
        "roots": np.array(roots, np.int32), "feature": np.array(feature, np.int16), "threshold": np.array(threshold, np.float32),
        "left": np.array(left, np.int32), "right": np.array(right, np.int32), "value": np.array(value, np.float32),
    }  # fmt: skip


def tally(s: evidence.Scene, sure: np.ndarray, truth: list[tuple], least: float) -> dict[str, np.ndarray]:
    """Return right, true, found, ghosts found and ghosts for each piece."""
    kept = evidence.apart(s, sure, least, HitSettings().apart_ms)
    out = {}
    for number, name in enumerate(s.names):
        found = s.frames[kept & (s.pieces == number)].astype(float)
        mine = strokes_of(name, s, truth)
        right = ghosts = 0
        for ms, ghost in mine:
            near = np.flatnonzero(np.abs(found - ms) < WITHIN_MS)
            if near.size:
                found[near[np.argmin(np.abs(found[near] - ms))]] = -1e9
                right, ghosts = right + 1, ghosts + ghost
        out[name] = np.array([right, len(mine), found.size, ghosts, sum(ghost for _, ghost in mine)])
    return out


def show(paths: list[Path], sures: list[np.ndarray], least: float) -> None:
    total: dict[str, np.ndarray] = {}
    for path, sure in zip(paths, sures, strict=True):
        s, truth = load(path)
        for name, row in tally(s, sure, truth, least).items():
            total[name] = total.get(name, 0) + row
    for name, row in total.items():
        print(f"  {name:<6} F {2 * row[0] / max(row[1] + row[2], 1):.3f}  right {row[0]} true {row[1]} found {row[2]}")
    shells = sum(row for name, row in total.items() if name not in ("hihat", "ride", evidence.ELSEWHERE))
    close = sum(row for name, row in total.items() if name != evidence.ELSEWHERE)
    print(
        f"sure {least}: kick, snare, toms {2 * shells[0] / (shells[1] + shells[2]):.4f}, all close {2 * close[0] / (close[1] + close[2]):.4f}, "
        f"ghosts {shells[3]} of {shells[4]}",
        flush=True,
    )


def teach(kits: int, folder: Path) -> None:
    """Generate, grow, show and save."""
    folder.mkdir(parents=True, exist_ok=True)
    columns, sure, asked = {}, None, None
    with ProcessPoolExecutor(2) as pool:
        paths = list(pool.map(measured, range(kits), [folder] * kits))
        heard = list(pool.map(first_hearing, paths))
        measures, answers = [m for m, _ in heard], [a for _, a in heard]
        for stage in judge.STAGES:
            if sure is not None:
                measures = list(pool.map(heard_again, paths, sure, asked))
            booster, found = stage_of(measures, answers)
            columns |= {f"{stage}_{name}": values for name, values in table(booster).items()}
            if sure is None:
                sure, asked = found, [np.flatnonzero(each >= judge.WORTH_ASKING) for each in found]
                answers = [a[k] for a, k in zip(answers, asked, strict=True)]
            else:
                for each, k, better in zip(sure, asked, found, strict=True):
                    each[k] = better
            print(stage)
            for least in (0.3, 0.4, 0.5):
                show(paths[::KEPT_BACK], sure[::KEPT_BACK], least)
    np.savez_compressed(Path(judge.__file__).with_name("judge.npz"), **columns)


def stage_of(measures: list[np.ndarray], answers: list[np.ndarray]) -> tuple[lightgbm.Booster, list[np.ndarray]]:
    """Return trees grown on all kits that teach, and what is said of each kit by trees that have not seen it."""
    teaching = [k for k in range(len(measures)) if k % KEPT_BACK]
    whole = grow([measures[k] for k in teaching], [answers[k] for k in teaching])
    found = [whole.predict(each) for each in measures]
    halves = teaching[::2], teaching[1::2]
    for half, other in (halves, halves[::-1]):
        booster = grow([measures[k] for k in half], [answers[k] for k in half])
        for k in other:
            found[k] = booster.predict(measures[k])
    return whole, found


if __name__ == "__main__":
    if not recorded.there():
        sys.exit(f"Some kits are made of recorded strokes: {recorded.INSTALL}")
    teach(int(sys.argv[1]), Path(sys.argv[2]))
