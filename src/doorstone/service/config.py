"""Configuration: from a TOML file, `DOORSTONE_...` variables and options, the later winning."""

from __future__ import annotations

import os
import tomllib
from datetime import date, datetime, timedelta
from decimal import Decimal
from difflib import get_close_matches
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, SecretStr
from pydantic_settings import BaseSettings, PydanticBaseSettingsSource, SettingsConfigDict, TomlConfigSettingsSource

from doorstone.core.exceptions.residual import DATA, NETWORK, RiskTable
from doorstone.core.facts import Source
from doorstone.core.forecast.costs import CostModel, Price
from doorstone.core.readings.history import Retention
from doorstone.service.auth_settings import AuthSettings, OidcProvider, Throttle
from doorstone.store.database import Database
from doorstone.store.keys import SESSION_KEY, key_file
from doorstone.work.context.clock import Clock, FixedClock, SystemClock
from doorstone.work.context.context import SOURCES, Context, Policy
from doorstone.work.context.passwords import Cost, Passwords


class SourceConfig(BaseModel):
    """How far a source is trusted, and how long its readings count. Days left out: they do not age."""

    model_config = ConfigDict(extra="forbid")

    trust: int = Field(ge=0, le=1000, description="Higher is believed first")
    passing_days: int | None = Field(30, ge=0, description="Days that a reading of a passing fact counts")
    lasting_days: int | None = Field(None, ge=0, description="Days that a reading of a lasting fact counts")


class ConfigError(ValueError):
    """A setting that cannot be used: where it is written, what is wrong, what to do."""

    def __init__(self, place: str, message: str, hint: str) -> None:
        super().__init__(f"{place}: {message}. {hint}")
        self.place, self.message, self.hint = place, message, hint


OTHER_VARIABLES = frozenset({"DOORSTONE_CONFIG", "DOORSTONE_SERVER", "DOORSTONE_TOKEN", "DOORSTONE_PASSWORD"})
"""What the command line reads beside the settings."""


class Config(BaseSettings):
    """Every setting of the service, with its default."""

    model_config = SettingsConfigDict(env_prefix="DOORSTONE_", extra="ignore")

    data: Path = Field(Path("doorstone-data"), description="Folder of the records and the session key")
    host: str = Field("127.0.0.1", description="Address to listen on")
    port: int = Field(8640, ge=0, le=65535, description="Port to listen on; 0 takes a free one")
    threads: int = Field(
        32, ge=1, le=64, description="Requests that are answered, or wait for their turn, at the same time"
    )
    https: bool = Field(False, description="Behind HTTPS: the session cookie is marked Secure")
    as_of: date | None = Field(None, description="Stand the clock still on this day; for demonstrations")
    most_days: int = Field(365, ge=1, description="Longest an exception may run, in days")
    self_approval: bool = Field(False, description="Let requesters approve their own requests; the ledger shows it")
    two_approvers: Literal["none", "critical", "all"] = Field(
        "none", description="Which requests take two approvers: none, those for a critical device, or all"
    )
    required: list[Literal["conditions", "attachment"]] = Field(
        [], description="What every request must have beside reason, owner and dates"
    )
    ahead_days: int = Field(
        30,
        ge=0,
        le=365,
        description="Days before a review, a lapse, the end of a link or of a kit from which it is due",
    )
    decide_days: int = Field(7, ge=0, le=365, description="Days that a request may wait before it is overdue")
    round_seconds: int = Field(30, ge=1, description="Seconds between rounds: what lapses, what is due, what is sent")
    session_hours: int = Field(12, ge=1, description="Hours after which a console session ends in any case")
    idle_minutes: int = Field(60, ge=1, description="Minutes without a call after which a console session ends")
    tries_per_account: int = Field(5, ge=1, description="Sign-ins to one account that are looked at in five minutes")
    tries_per_address: int = Field(60, ge=1, description="Sign-ins from one address that are looked at in five minutes")
    connections_per_address: int = Field(
        200, ge=0, description="Connections that one address may have; 0 for any, and where proxies are believed"
    )
    requests_per_address: int = Field(
        3000,
        ge=0,
        description="Requests from one address that are answered in a second, counted over ten; one that carries"
        " neither token nor session counts as ten; 0 for any",
    )
    password_cost: Cost = Field(
        "standard", description="Work that a password takes; `tests` is quick and weak, for test runs only"
    )
    address: str = Field("", description="Address under which people reach the service, such as https://stone.example")
    oidc_issuer: str = Field("", description="Issuer of the OpenID Connect provider to sign in through")
    oidc_client_id: str = Field("", description="Client id at that provider")
    oidc_client_secret: SecretStr = Field(SecretStr(""), description="Client secret, if the provider gave one")
    oidc_name_claim: str = Field("preferred_username", description="Claim that becomes the name here")
    oidc_groups_claim: str = Field("groups", description="Claim that lists a person's groups")
    oidc_groups: dict[str, Literal["viewer", "technician", "approver", "administrator"]] = Field(
        {}, description="Group at the provider -> role here; the greatest counts, nobody without one gets in"
    )
    oidc_domains: list[str] = Field(
        [], description="Domains of verified mail addresses that may sign in through the provider; any if empty"
    )
    trusted_proxies: int = Field(
        0, ge=0, le=9, description="Proxies in front of the service whose X-Forwarded headers are believed"
    )
    webhook_targets: list[str] = Field(
        [],
        description="Hosts, or .domains, that webhooks may reach; if empty, all but loopback and link-local ones",
    )
    smtp_host: str = Field("", description="Mail server; without one no mail is sent")
    smtp_port: int = Field(25, ge=1, le=65535, description="Its port")
    smtp_from: str = Field("door-stone@localhost", description="Sender of the mail")
    smtp_user: str = Field("", description="User at the mail server, if it asks for one")
    smtp_password: SecretStr = Field(SecretStr(""), description="Password at the mail server")
    smtp_tls: Literal["none", "start", "always"] = Field("none", description="TLS with the mail server")
    check_every_days: int = Field(60, ge=1, description="Days after which an observation is too old to tell")
    stay_days: int = Field(180, ge=0, description="Days of servicing left from which staying is recommended")
    silent_days: int = Field(45, ge=1, description="Days without any reading after which a device is asked about")
    separate_days: int = Field(
        30,
        ge=0,
        description="Days for which an account counts as in the hands of whoever created it or set its password",
    )
    reread_days: int = Field(
        7, ge=0, description="Days before a reading expires from which the device is due to be read"
    )
    keep_changed_days: int = Field(
        365, ge=1, description="Days for which a reading that moved an answer is kept; decisions keep what they rest on"
    )
    keep_unchanged_days: int = Field(30, ge=1, description="Days for which a reading that moved no answer is kept")
    keep_delivery_days: int = Field(90, ge=1, description="Days for which a delivery that is over is kept")
    keep_receipt_days: int = Field(
        30, ge=1, description="Days for which the answer to a call with an Idempotency-Key is kept"
    )
    anchor: Path | None = Field(
        None,
        description="File on another disk to which the ledger's head is added with each round that changed it;"
        " records that do not have an entry of it are refused",
    )
    update_service: str = Field(
        "", description="Address that is asked what updates a device gets, with {device} and {day} in it; none if empty"
    )
    poll_hours: int = Field(24, ge=1, le=24 * 30, description="Hours between two askings about a device")
    cost_hour: Decimal = Field(Decimal("42.00"), ge=0, description="An hour of a technician's work")
    cost_move_minutes: int = Field(30, ge=0, description="Minutes for a move that is offered")
    cost_by_hand_minutes: int = Field(110, ge=0, description="Minutes for a move by exception, by hand")
    cost_data_minutes: int = Field(90, ge=0, description="Minutes to save and restore data at a clean install")
    cost_check_minutes: int = Field(10, ge=0, description="Minutes to look whether updates arrive")
    cost_extended_per_month: Decimal = Field(
        Decimal("5.50"), ge=0, description="Paid servicing of a device for a month"
    )
    cost_extended_months: int = Field(12, ge=0, description="Most months of paid servicing; 0 where there is none")
    cost_replacement: Decimal = Field(Decimal("640.00"), ge=0, description="A new device")
    cost_replacement_prices: dict[date, Annotated[Decimal, Field(ge=0)]] = Field(
        {}, description="Price list: what a new device costs from a day on; cost_replacement before the first"
    )
    cost_replacement_minutes: int = Field(150, ge=0, description="Minutes to set a new device up")
    cost_replacement_months: int = Field(48, ge=1, description="Months of servicing that a new device has before it")
    cost_slower_per_month: Decimal = Field(
        Decimal("3.00"), ge=0, description="What a device that runs slower since its upgrade costs its user in a month"
    )
    risk_critical: int = Field(4, ge=0, le=99, description="Points of risk for a device the organisation lives on")
    risk_network: dict[Literal["isolated", "internal", "public"], int] = Field(
        {"isolated": 0, "internal": 1, "public": 4},
        description="Points of risk for the network that a device stands in",
    )
    risk_data: dict[Literal["none", "internal", "personal"], int] = Field(
        {"none": 0, "internal": 1, "personal": 4}, description="Points of risk for the data that a device holds"
    )
    risk_unread: int = Field(2, ge=0, le=99, description="Points of risk for an exposure that nobody has read")
    risk_kept: int = Field(1, ge=0, le=99, description="Points taken off for each condition that is kept")
    risk_two_approvers: int = Field(
        0, ge=0, le=999, description="Points of risk from which two approvers are needed; 0 for never"
    )
    sources: dict[str, SourceConfig] = Field(
        {}, description="Sources by name, each with trust, passing_days and lasting_days; added to the built-in ones"
    )

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
        _check_names(file, set(cls.model_fields))
        return init_settings, env_settings, TomlConfigSettingsSource(settings_cls, file)


def _check_names(file: Path, known: set[str]) -> None:
    """Raises `ConfigError` for a key of the file, or a DOORSTONE_ variable, that is no setting."""
    try:
        given = set(tomllib.loads(file.read_text("utf-8"))) if file.is_file() else set()
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise ConfigError(str(file), f"It is not TOML: {error}", "Correct it at this place") from error
    variables = {name for name in os.environ if name.startswith("DOORSTONE_")} - OTHER_VARIABLES
    named = [(str(file), name, name) for name in sorted(given - known)]
    named += [("environment", name, name.removeprefix("DOORSTONE_").lower()) for name in sorted(variables)]
    for place, written, name in named:
        if name not in known:
            near = get_close_matches(name, known, 1, 0.6)
            hint = f"Is {near[0]} meant?" if near else "See the configuration reference for what there is"
            raise ConfigError(place, f"There is no setting {written!r}", hint)


def open_context(config: Config, *, existing: bool = False) -> Context:
    """The context over the records in the data folder; with `existing`, none are made. Raises `DamagedError`."""
    clock: Clock = SystemClock()
    if config.as_of is not None:
        clock = FixedClock(datetime(config.as_of.year, config.as_of.month, config.as_of.day, 9))
    own = {name: Source(name, s.trust, s.passing_days, s.lasting_days) for name, s in config.sources.items()}
    policy = Policy(
        most_days=config.most_days,
        self_approval=config.self_approval,
        two_approvers=config.two_approvers,
        required=tuple(config.required),
        ahead_days=config.ahead_days,
        decide_days=config.decide_days,
        check_every_days=config.check_every_days,
        stay_days=config.stay_days,
        silent_days=config.silent_days,
        reread_days=config.reread_days,
        separate_days=config.separate_days,
        retention=Retention(
            config.keep_changed_days, config.keep_unchanged_days, config.keep_delivery_days, config.keep_receipt_days
        ),
        costs=CostModel(
            config.cost_hour,
            config.cost_move_minutes,
            config.cost_by_hand_minutes,
            config.cost_check_minutes,
            config.check_every_days,
            config.cost_extended_per_month,
            config.cost_extended_months,
            config.cost_replacement,
            config.cost_replacement_minutes,
            config.cost_replacement_months,
            config.cost_slower_per_month,
            tuple(Price(day, price) for day, price in sorted(config.cost_replacement_prices.items())),
            config.cost_data_minutes,
        ),
        risk=RiskTable(
            config.risk_critical,
            {
                NETWORK: {str(k): n for k, n in config.risk_network.items()},
                DATA: {str(k): n for k, n in config.risk_data.items()},
            },
            config.risk_unread,
            config.risk_kept,
            config.risk_two_approvers,
        ),
        sources={**SOURCES, **own},
    )
    return Context(
        Database(config.data / "doorstone.db", existing=existing, anchor=config.anchor),
        clock,
        policy,
        Passwords(config.password_cost),
    )


def open_auth_settings(config: Config) -> AuthSettings:
    """The configured rules of signing in: sessions, failed tries, identity provider."""
    provider = None
    if config.oidc_issuer:
        provider = OidcProvider(
            config.oidc_issuer,
            config.oidc_client_id,
            config.oidc_client_secret.get_secret_value(),
            config.oidc_name_claim,
            config.oidc_groups_claim,
            dict(config.oidc_groups),
            tuple(domain.lower().lstrip("@") for domain in config.oidc_domains),
        )
    session, idle = timedelta(hours=config.session_hours), timedelta(minutes=config.idle_minutes)
    throttle = Throttle(config.tries_per_account, config.tries_per_address)
    return AuthSettings(session, idle, config.address, config.https, provider, throttle)


def session_key(config: Config) -> bytes:
    """The key that signs sessions: made at first start, readable by the owner only."""
    return key_file(config.data / SESSION_KEY)
