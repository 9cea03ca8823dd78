"""Prints the OpenAPI schema, from which the front end's types are generated."""

from __future__ import annotations

import json

from tidy_caravan.server.app import create_app
from tidy_caravan.server.settings import Settings


def main() -> None:
    print(json.dumps(create_app(Settings(database=""), work=False).openapi(), indent=1, sort_keys=True))


if __name__ == "__main__":
    main()
