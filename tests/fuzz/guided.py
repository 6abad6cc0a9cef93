"""`./run fuzz --guided TARGET SECONDS`: one reader under a fuzzer that is led by what code its inputs reach.

The corpus starts with the seeds of the target and what was found before (`tests/fuzz/found`); a foreign exception, two
seconds of processor time or 300 MB more than before end it, with the input kept and its place said. With `all` each
target gets the time, one process after the other.
"""

from __future__ import annotations

import hashlib
import re
import subprocess
import sys
import tempfile
from pathlib import Path

MOST_S, MOST_MB = 2, 300
FOUND = Path(__file__).parent / "found"


def main(arguments: list[str]) -> int:
    """Run one target, or all of them, each in a process of its own."""
    from .targets import TARGETS

    if len(arguments) != 2 or arguments[0] not in (*TARGETS, "all"):
        print(f"usage: ./run fuzz --guided TARGET SECONDS; targets: all {' '.join(TARGETS)}", file=sys.stderr)
        return 2
    names = list(TARGETS) if arguments[0] == "all" else [arguments[0]]
    return max(_campaign(name, float(arguments[1])) for name in names)


def _campaign(name: str, seconds: float) -> int:
    kept = Path(tempfile.gettempdir()) / "zesty-guided" / re.sub(r"\W", "-", name)
    corpus = kept / "corpus"
    corpus.mkdir(parents=True, exist_ok=True)
    done = subprocess.run(
        [sys.executable, "-m", "tests.fuzz.guided", "--inside", name, str(corpus), str(kept), str(int(seconds))],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    tried = [int(n) for n in re.findall(r"^#(\d+)", done.stderr, re.M)]
    rate = re.findall(r"exec/s: (\d+)", done.stderr)
    print(f"{name}: {max(tried, default=0):,} tried, {rate[-1] if rate else '?'} a second, ", end="")
    if done.returncode == 0 and tried:
        print("no failure among these")
        return 0
    if not tried:
        print("NOTHING WAS TRIED: ", end="")
    said = [x for x in done.stderr.splitlines() if re.match(r"\s*=== |\w*(Error|Exception)|==\d+== ERROR|artifact", x)]
    print(f"FAILED: {' | '.join(s.strip()[:160] for s in said[-4:]) or done.stderr[-400:]}")
    return 1


def _inside(name: str, corpus: str, kept: str, seconds: str) -> None:
    import atheris

    with atheris.instrument_imports(include=["zesty_trace"]):
        from zesty_trace.errors import ZestyError

        from .targets import TARGETS

    target = TARGETS[name]
    seeds = target.seeds()
    if FOUND.is_dir():
        seeds = [*seeds, *(p.read_bytes() for p in sorted(FOUND.glob(f"{re.sub(r'[^a-z]', '-', name)}-*")))]
    for seed in seeds:
        (Path(corpus) / hashlib.sha256(seed).hexdigest()[:16]).write_bytes(seed)

    def once(data: bytes) -> None:
        try:
            target.act(data)
        except ZestyError:
            return

    once(seeds[0])  # what is kept for all is made before memory is counted
    here = _memory_mb()
    options = [f"-max_total_time={seconds}", f"-timeout={MOST_S}", f"-rss_limit_mb={here + MOST_MB}", "-max_len=60000"]
    atheris.Setup([sys.argv[0], *options, f"-artifact_prefix={kept}/", corpus], once)
    atheris.Fuzz()


def _memory_mb() -> int:
    import resource

    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024


if __name__ == "__main__":
    if sys.argv[1:2] == ["--inside"]:
        _inside(*sys.argv[2:])
    else:
        sys.exit(main(sys.argv[1:]))
