"""The bank of verdicts: what is said of sound set-ups, of planted faults, and of ways of training.

``python tools/bank.py [sound|faults|studies] [part of a name] [first seed]`` prints what was said
that should not have been, what was not said that should have been, and the rates. With another
first seed, all are drawn anew.
"""

from __future__ import annotations

import re
import sys
import time
import warnings
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from itertools import repeat
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

SEEDS = 2  # of each fault
STUDIES = 40
APART = (12, 6)  # units and epochs of a way that is about two spreads worse
Told = list[tuple[str, str]]


def _said(made: object, seed: int) -> tuple[float, Told]:
    from tests.verdicts.setup import said_of

    begun = time.perf_counter()
    try:
        found = [(one.verdict, str(one)) for one in said_of(made(seed))]  # type: ignore[operator]
    except Exception as error:
        found = [("wrong", f"RAISED {type(error).__name__}: {error}"[:300])]
    return time.perf_counter() - begun, list(dict.fromkeys(found))


def sound_set_up(name: str, seed: int) -> tuple[str, float, Told]:
    """Of a sound set-up, the troubles that were told."""
    from tests.verdicts.sound import FAMILIES

    seconds, found = _said(FAMILIES[name][0], seed)
    return f"{name} {seed}", seconds, _troubles(found)


def fault(name: str, seed: int) -> tuple[str, float, bool, Told]:
    """Of a fault, whether it was named, and the troubles that were told."""
    from tests.verdicts.faults import FAULTS

    planted = FAULTS[name]
    seconds, found = _said(planted.made, seed)
    counted = found if planted.any_verdict else _troubles(found)
    named = any(re.search(planted.says, text) for _, text in counted)
    return f"{name} {seed}", seconds, named, _troubles(found)


def _troubles(found: Told) -> Told:
    return [one for one in found if one[0] in ("suspicious", "wrong")]


def main(what: str = "", part: str = "", first: str = "0") -> int:
    """Run the bank, or a part of it, and print it."""
    from tests.verdicts.faults import FAULTS
    from tests.verdicts.sound import FAMILIES

    begun, start = time.perf_counter(), int(first)
    with ProcessPoolExecutor(2) as pool:
        if what in ("", "sound"):
            chosen = [
                (name, start + seed)
                for name, (_, seeds) in FAMILIES.items()
                if part in name
                for seed in range(seeds)
            ]
            worst: Counter[str] = Counter()
            for label, seconds, told in pool.map(sound_set_up, *zip(*chosen, strict=True)):
                kinds = {verdict for verdict, _ in told}
                worst["wrong" if "wrong" in kinds else "suspicious" if kinds else "sound"] += 1
                print(f"{label:32} {seconds:6.1f} s  {'' if told else 'sound'}")
                for _, text in told:
                    print(f"      {text}")
            print(f"sound set-ups: {len(chosen)}: {dict(worst)}", flush=True)
        if what in ("", "faults"):
            names = [name for name in FAULTS if part in name]
            found = 0
            for seed in range(start, start + SEEDS):
                for label, seconds, named, told in pool.map(fault, names, repeat(seed)):
                    found += named
                    print(f"{label:32} {seconds:6.1f} s  {'found' if named else 'NOT FOUND'}")
                    for _, text in told if not named or part else ():
                        print(f"      {text}")
            print(f"faults: {found} of {SEEDS * len(names)} found")
        if what in ("", "studies"):
            from tests.verdicts.studies import different_ways, equal_ways, spreads_apart

            apart = pool.submit(spreads_apart, *APART)
            studies = range(start + 1, start + 1 + STUDIES)
            told = sum(pool.map(equal_ways, studies))
            found = sum(pool.map(different_ways, studies, *map(repeat, APART)))
            print(f"equal ways: a difference is told in {told} of {STUDIES} studies")
            print(
                f"ways {apart.result():.1f} spreads over seeds apart: found in {found} of {STUDIES}"
            )
    print(f"{time.perf_counter() - begun:.0f} s")
    return 0


if __name__ == "__main__":
    warnings.simplefilter("ignore")
    raise SystemExit(main(*sys.argv[1:]))
