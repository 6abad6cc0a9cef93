"""`python -m zesty_trace.cli COMMAND`."""

import sys

from zesty_trace.cli import main

sys.exit(main())
