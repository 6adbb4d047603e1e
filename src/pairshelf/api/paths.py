"""What stands in the addresses of several rooms of the API."""

from __future__ import annotations

from pydantic import BaseModel


class DrivePath(BaseModel):
    drive_id: int


class PoolPath(BaseModel):
    pool_id: int
