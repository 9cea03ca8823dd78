"""The start command. Every worker process loads this module again, so it loads nothing itself until it is to start."""

from __future__ import annotations

import argparse
import signal
import sys
from pathlib import Path


def main() -> int:
    # nothing is there to be ended in order yet, and what Ctrl-C raises within an import can be caught by a library
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    from tidy_caravan.core.loading import loading

    with loading():
        from tidy_caravan.core.errors import CaravanError
        from tidy_caravan.server.faults import disk_full
        from tidy_caravan.server.settings import ROOT
        from tidy_caravan.server.start import serve

    parser = argparse.ArgumentParser(
        prog="tidy-caravan-server", description="Starts the server, with its database and its workers."
    )
    parser.add_argument("--demo", action="store_true", help="load the demo hauls into an empty database")
    parser.add_argument("--state", type=Path, default=ROOT / ".state", help="folder of database and store")
    args = parser.parse_args()
    try:
        return serve(args.state, args.demo)
    except CaravanError as error:
        print(f"tidy-caravan: {error.sentence()}", file=sys.stderr)
        return 1
    except OSError as error:
        full = disk_full(error)
        text = full["title"] if full else f"{error.filename or args.state}: {error.strerror or error}"
        print(f"tidy-caravan: {text}", file=sys.stderr)
        return 1


if __name__ == "__main__":
    from tidy_caravan.server.start import end_now

    code = main()
    sys.stdout.flush()
    sys.stderr.flush()
    # everything of ours is ended and committed by now; what libraries would still wait for at exit takes seconds
    end_now(code)
