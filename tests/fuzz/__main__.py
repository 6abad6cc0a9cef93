"""`./run fuzz TARGET SECONDS`: try one reader for as long as is wanted; what fails is kept in /tmp and said."""

from __future__ import annotations

import hashlib
import random
import resource
import sys
import tempfile
import time
import traceback
from pathlib import Path

from zesty_trace.errors import ZestyError

from .mutate import mutated
from .targets import TARGETS


def main() -> int:
    if len(sys.argv) != 3 or sys.argv[1] not in (*TARGETS, "all"):
        print(f"usage: ./run fuzz TARGET SECONDS; targets: all {' '.join(TARGETS)}", file=sys.stderr)
        return 2
    names = list(TARGETS) if sys.argv[1] == "all" else [sys.argv[1]]
    return max(fuzz(name, float(sys.argv[2]) / len(names)) for name in names)


def fuzz(name: str, seconds: float) -> int:
    target, rng = TARGETS[name], random.Random()
    seeds, kept = target.seeds(), Path(tempfile.gettempdir()) / "zesty-fuzz"
    kept.mkdir(exist_ok=True)
    seen: dict[str, int] = {}
    tried, slowest, end = 0, 0.0, time.monotonic() + seconds
    while time.monotonic() < end:
        data = mutated(rng.choice(seeds), rng, rng.randint(1, 8))
        tried += 1
        start = time.monotonic()
        problem = ""
        try:
            target.act(data)
        except ZestyError:
            pass
        except Exception as error:
            last = traceback.extract_tb(error.__traceback__)[-1]
            problem = f"{type(error).__name__} at {Path(last.filename).name}:{last.lineno}: {str(error)[:100]}"
        took = time.monotonic() - start
        slowest = max(slowest, took)
        if took > 2.0:
            problem = problem or f"took {took:.1f} s"
        if problem:
            key = problem.split(": ")[0]
            seen[key] = seen.get(key, 0) + 1
            if seen[key] == 1:
                path = kept / f"{name}-{hashlib.sha256(data).hexdigest()[:12]}"
                path.write_bytes(data)
                print(f"{problem}\n  kept as {path}")
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    print(
        f"{name}: {tried} tried, {sum(seen.values())} failed in {len(seen)} ways, slowest {slowest:.2f} s, {memory} MB"
    )
    return int(bool(seen))


if __name__ == "__main__":
    sys.exit(main())
