"""A stand-in ends with the program that started it, however that one ended."""

from __future__ import annotations

import argparse
import os
import threading
import time

LOOK_S = 0.5


def add_parent_option(parser: argparse.ArgumentParser) -> None:
    """Add the option by which the starter says who it is."""
    parser.add_argument("--parent", type=int, default=0, help="end when the process of this number is gone")


def end_with_parent(parent: int) -> None:
    """End this process soon after `parent` is gone; 0 is nobody."""
    if not parent:
        return

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(LOOK_S)
        os._exit(0)

    threading.Thread(target=watch, name="parent", daemon=True).start()
