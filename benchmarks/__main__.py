"""Run all benchmarks, or those named: python -m benchmarks [import] [autodiff] [steps] [threads]
[layers] [generative] [data] [training] [text] [recording] [growth] [profile] [ranks]
[scaling] [pipeline].

Prints the figures, and writes benchmarks/results.json.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

from . import (
    bench_autodiff,
    bench_data,
    bench_generative,
    bench_growth,
    bench_import,
    bench_layers,
    bench_pipeline,
    bench_profile,
    bench_ranks,
    bench_recording,
    bench_scaling,
    bench_steps,
    bench_text,
    bench_threads,
    bench_training,
)
from .timing import machine

ALL = {
    "import": bench_import.run,
    "autodiff": bench_autodiff.run,
    "steps": bench_steps.run,
    "threads": bench_threads.run,
    "layers": bench_layers.run,
    "generative": bench_generative.run,
    "data": bench_data.run,
    "training": bench_training.run,
    "text": bench_text.run,
    "recording": bench_recording.run,
    "growth": bench_growth.run,
    "profile": bench_profile.run,
    "ranks": bench_ranks.run,
    "scaling": bench_scaling.run,
    "pipeline": bench_pipeline.run,
}


def main(names: list[str]) -> None:
    results: dict[str, object] = {"machine": machine()}
    for name in names or list(ALL):
        results[name] = ALL[name]()
        print(
            json.dumps(
                {name: results[name]}, indent=1, default=lambda value: round(float(value), 3)
            )
        )
    (Path(__file__).parent / "results.json").write_text(json.dumps(results, indent=1))


if __name__ == "__main__":
    main(sys.argv[1:])
