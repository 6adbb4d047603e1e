"""What the surroundings say: where the database is, where the stand-in keeps its media."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from pydantic_settings import BaseSettings, SettingsConfigDict


class Settings(BaseSettings):
    """Read from the environment, each name with PAIRSHELF_ before it."""

    model_config = SettingsConfigDict(env_prefix="PAIRSHELF_")

    #: Address of the PostgreSQL database.
    database_url: str = "postgresql://pairshelf@127.0.0.1:5432/pairshelf"
    #: Folder of the simulated devices' media.
    devices: Path = Path("var/devices")
    #: Whether cookies are sent over HTTPS only.
    secure_cookies: bool = False
    #: Reverse proxies in front whose X-Forwarded-For can be believed.
    proxies: int = 0
    #: Where the web server listens.
    host: str = "127.0.0.1"
    #: Where people reach the application, for the links in messages; an administrator may set another.
    address: str = ""
    #: Further names by which it may be reached, separated by commas.
    allowed_hosts: str = ""

    @property
    def sqlalchemy_url(self) -> str:
        """The address with the driver named."""
        for prefix in ("postgresql://", "postgres://"):
            if self.database_url.startswith(prefix):
                return "postgresql+psycopg://" + self.database_url[len(prefix) :]
        return self.database_url

    @property
    def libpq_url(self) -> str:
        """The address for plain connections."""
        return self.sqlalchemy_url.replace("postgresql+psycopg://", "postgresql://", 1)


@lru_cache
def settings() -> Settings:
    """The settings of this process."""
    return Settings()
