"""`python -m zesty_trace.cli COMMAND`."""

import sys

from zesty_trace.cli import main

if __name__ == "__main__":
    sys.exit(main())
