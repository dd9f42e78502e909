"""The SQLite file: opened in WAL mode, every commit on the disk before it returns, migrated when it is old."""

from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine, event, inspect, text

HEAD = "0001"
_MIGRATIONS = Path(__file__).parent / "migrations"


def open_database(path: Path) -> Engine:
    """Engine on the database at `path`, made or migrated where needed."""
    path.parent.mkdir(parents=True, exist_ok=True)
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30})

    @event.listens_for(engine, "connect")
    def _pragmas(connection: Any, _: Any) -> None:
        connection.isolation_level = None
        for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", "busy_timeout=30000"):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def _begin(connection: Any) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE")

    with engine.connect() as connection:
        known = inspect(connection).has_table("alembic_version")
        at = connection.execute(text("SELECT version_num FROM alembic_version")).scalar() if known else None
    if at != HEAD:
        _migrate(engine)
    return engine


def _migrate(engine: Engine) -> None:
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    with engine.connect() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
        connection.commit()
