"""The tables. What the database can hold to by itself is a constraint here, not a habit elsewhere."""

from __future__ import annotations

from pairshelf.store.clock import now
from pairshelf.store.tables.access import (
    Application,
    Initiator,
    Party,
    PartyMember,
    Share,
    ShareRight,
    ShareVisit,
    Target,
    TargetLun,
    TargetRight,
)
from pairshelf.store.tables.columns import Condition, JobState, MemberState, Service, SheetState
from pairshelf.store.tables.disposal import Certificate, FormerPoolRow, SigningKey, WipeRow
from pairshelf.store.tables.drives import DrainRow, DriveHealth, DriveModel, DriveRow, Host, PartitionPlan, Shelf, Site
from pairshelf.store.tables.people import KnownDevice, SessionRow, Setting, User
from pairshelf.store.tables.pools import BackupRow, GrowthPathRow, MissedWrite, PoolPlace, PoolRecord, PoolRow
from pairshelf.store.tables.telling import Channel, Delivery, Message, TopicRow
from pairshelf.store.tables.volumes import (
    ChangedRegion,
    KeepRule,
    Mount,
    SampleFile,
    VolumePiece,
    VolumeRow,
    VolumeStripes,
)
from pairshelf.store.tables.watching import (
    CalendarAddress,
    Crossing,
    HostWrites,
    OutlookRow,
    PlayedRow,
    PlayRow,
    ScheduleRow,
    Threshold,
)
from pairshelf.store.tables.work import Comparison, ErrandRow, JobRow, LogRow, SheetPlan, SheetRow

__all__ = [
    "Application",
    "BackupRow",
    "CalendarAddress",
    "Certificate",
    "ChangedRegion",
    "Channel",
    "Comparison",
    "Condition",
    "Crossing",
    "Delivery",
    "DrainRow",
    "DriveHealth",
    "DriveModel",
    "DriveRow",
    "ErrandRow",
    "FormerPoolRow",
    "GrowthPathRow",
    "Host",
    "HostWrites",
    "Initiator",
    "JobRow",
    "JobState",
    "KeepRule",
    "KnownDevice",
    "LogRow",
    "MemberState",
    "Message",
    "MissedWrite",
    "Mount",
    "OutlookRow",
    "PartitionPlan",
    "Party",
    "PartyMember",
    "PlayRow",
    "PlayedRow",
    "PoolPlace",
    "PoolRecord",
    "PoolRow",
    "SampleFile",
    "ScheduleRow",
    "Service",
    "SessionRow",
    "Setting",
    "Share",
    "ShareRight",
    "ShareVisit",
    "SheetPlan",
    "SheetRow",
    "SheetState",
    "Shelf",
    "SigningKey",
    "Site",
    "Target",
    "TargetLun",
    "TargetRight",
    "Threshold",
    "TopicRow",
    "User",
    "VolumePiece",
    "VolumeRow",
    "VolumeStripes",
    "WipeRow",
    "now",
]
