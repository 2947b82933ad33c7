"""A bare Flask route that inserts a row, under the same server and with the same pool: what a save could cost at best."""

import os
import sys
from typing import Any

from flask import Flask, Response, jsonify, request
from psycopg.types.json import Jsonb

from cavrel import workers
from cavrel.store.pool import Pool, transaction


def create_app(pool: Pool) -> Flask:
    app = Flask("bare")

    @app.post("/bare")
    def insert() -> Response:
        sent: Any = request.get_json()
        with transaction(pool) as connection:
            row = connection.execute("insert into bare (body) values (%s) returning id", [Jsonb(sent)]).fetchone()
        assert row is not None
        return jsonify(id=row["id"])

    @app.get("/health")
    def health() -> Response:
        return jsonify(ok=True)

    return app


if __name__ == "__main__":
    workers.serve(int(sys.argv[1]), int(sys.argv[2]), os.environ["DATABASE_URL"], create_app)
