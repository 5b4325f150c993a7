"""Configuration: from a TOML file, `DOORSTONE_...` variables and options, the later winning."""

from __future__ import annotations

import os
import secrets
from datetime import date, datetime
from pathlib import Path

from pydantic import Field
from pydantic_settings import BaseSettings, PydanticBaseSettingsSource, SettingsConfigDict, TomlConfigSettingsSource

from doorstone.store.database import Database
from doorstone.work.desk import Clock, Desk, FixedClock, Policy, SystemClock


class Config(BaseSettings):
    """Every setting of the service, with its default."""

    model_config = SettingsConfigDict(env_prefix="DOORSTONE_", extra="ignore")

    data: Path = Field(Path("doorstone-data"), description="Folder of the records and the session key")
    host: str = Field("127.0.0.1", description="Address to listen on")
    port: int = Field(8640, ge=1, le=65535, description="Port to listen on")
    threads: int = Field(8, ge=1, le=64, description="Requests answered at the same time")
    https: bool = Field(False, description="Behind HTTPS: the session cookie is marked Secure")
    as_of: date | None = Field(None, description="Stand the clock still on this day; for demonstrations")
    most_days: int = Field(365, ge=1, description="Longest an exception may run, in days")
    self_approval: bool = Field(False, description="Let requesters approve their own requests; the ledger shows it")
    check_every_days: int = Field(60, ge=1, description="Days after which an observation is too old to tell")
    stay_days: int = Field(180, ge=0, description="Days of servicing left from which staying is recommended")

    @classmethod
    def settings_customise_sources(
        cls,
        settings_cls: type[BaseSettings],
        init_settings: PydanticBaseSettingsSource,
        env_settings: PydanticBaseSettingsSource,
        dotenv_settings: PydanticBaseSettingsSource,
        file_secret_settings: PydanticBaseSettingsSource,
    ) -> tuple[PydanticBaseSettingsSource, ...]:
        file = Path(os.environ.get("DOORSTONE_CONFIG", "doorstone.toml"))
        return init_settings, env_settings, TomlConfigSettingsSource(settings_cls, file)


def open_desk(config: Config) -> Desk:
    """The desk over the records in the data folder."""
    clock: Clock = SystemClock()
    if config.as_of is not None:
        clock = FixedClock(datetime(config.as_of.year, config.as_of.month, config.as_of.day, 9))
    policy = Policy(config.most_days, config.self_approval, config.check_every_days, config.stay_days)
    return Desk(Database(config.data / "doorstone.db"), clock, policy)


def session_key(config: Config) -> bytes:
    """The key that signs sessions: made at first start, readable by the owner only."""
    path = config.data / "session.key"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as file:
            file.write(secrets.token_bytes(32))
    return path.read_bytes()
