"""Saved comparisons: a question with the figures as they were, named, shared by its address, set beside others."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session, col, select

from pairshelf.api.asking import CompareBody
from pairshelf.api.compare import compare_all
from pairshelf.api.figures_out import LayoutOut
from pairshelf.api.guard import needs, signed_in
from pairshelf.api.queries import Query
from pairshelf.core.domain.acts import Act
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.core.figures.report import as_kept
from pairshelf.engine.log import log
from pairshelf.store.database import transaction
from pairshelf.store.tables import Comparison

api = APIBlueprint("comparisons", __name__, url_prefix="/api")

LONGEST_NAME = 80


class SavedLine(BaseModel):
    id: int
    name: str
    note: str
    created_by: str
    created_at: dt.datetime
    question: str
    layouts: list[LayoutOut]


class SavedOut(BaseModel):
    comparisons: list[SavedLine]
    more: bool


class ComparisonsPage(Query):
    before: int | None = None
    limit: int = Field(default=30, ge=1, le=100)


class SavePath(BaseModel):
    comparison_id: int


class SaveBody(CompareBody):
    name: str
    note: str = Field(default="", max_length=1000)
    #: The comparison's address after the question mark; opening it asks the same again.
    address: str = Field(max_length=8000)
    #: Layouts to keep the figures of: the picked one first, then those pinned.
    keys: list[str] = Field(min_length=1, max_length=5)


class RenameBody(BaseModel):
    name: str
    note: str = Field(default="", max_length=1000)


def _name(text: str) -> str:
    cleaned = " ".join(text.split())
    if not cleaned or not cleaned.isprintable():
        raise BadInput("Give the comparison a name.", field="name")
    if len(cleaned) > LONGEST_NAME:
        raise BadInput(f"A comparison's name has at most {LONGEST_NAME} characters.", field="name")
    return cleaned


def _out(row: Comparison) -> SavedLine:
    return SavedLine(
        id=row.number, name=row.name, note=row.note, created_by=row.created_by, created_at=row.created_at,
        question=row.question, layouts=[as_kept(one) for one in row.layouts["layouts"]],
    )  # fmt: skip


def _row(session: Session, comparison_id: int) -> Comparison:
    row = session.get(Comparison, comparison_id, with_for_update=True)
    if row is None:
        raise NotFound("comparison", hint="It may have been removed.")
    return row


@api.get("/comparisons", responses={200: SavedOut})
@needs(Act.LOOK)
def comparisons(query: ComparisonsPage) -> Any:
    """Saved comparisons, the newest first, a page at a time."""
    with transaction() as session:
        statement = select(Comparison).order_by(col(Comparison.id).desc()).limit(query.limit + 1)
        if query.before is not None:
            statement = statement.where(col(Comparison.id) < query.before)
        rows = session.exec(statement).all()
    return SavedOut(comparisons=[_out(r) for r in rows[: query.limit]], more=len(rows) > query.limit)


@api.post("/comparisons", responses={200: SavedLine})
@needs(Act.PREPARE, heavy=True)
def save(body: SaveBody) -> Any:
    """Save a comparison: its question, and the figures of the layouts picked as they are now."""
    name = _name(body.name)
    found = {layout["key"]: layout for layout in compare_all(body).report["layouts"]}
    kept = [found[key] for key in body.keys if key in found]
    if not kept:
        raise NotPossible(
            "None of these layouts meets the needs now; there is nothing to save.", code="nothing-to-save"
        )
    who = signed_in().name
    with transaction() as session:
        row = Comparison(name=name, note=body.note.strip(), question=body.address.lstrip("?"), layouts={"layouts": kept},
                         created_by=who)  # fmt: skip
        session.add(row)
        session.flush()
        log(session, who, "comparison-saved", name, f"Comparison {name} saved.", comparison=row.id)
        return _out(row)


@api.get("/comparisons/<int:comparison_id>", responses={200: SavedLine})
@needs(Act.LOOK)
def comparison(path: SavePath) -> Any:
    """One saved comparison."""
    with transaction() as session:
        return _out(_row(session, path.comparison_id))


@api.post("/comparisons/<int:comparison_id>/rename", responses={200: SavedLine})
@needs(Act.PREPARE)
def rename(path: SavePath, body: RenameBody) -> Any:
    """Give a saved comparison another name or note; its figures stay."""
    with transaction() as session:
        row = _row(session, path.comparison_id)
        before, row.name, row.note = row.name, _name(body.name), body.note.strip()
        session.flush()
        log(session, signed_in().name, "comparison-renamed", row.name, f"Comparison {before} is now {row.name}.")
        return _out(row)


@api.post("/comparisons/<int:comparison_id>/remove", responses={200: SavedLine})
@needs(Act.PREPARE)
def remove(path: SavePath) -> Any:
    """Remove a saved comparison. Nothing else depends on it."""
    with transaction() as session:
        row = _row(session, path.comparison_id)
        gone = _out(row)
        session.delete(row)
        log(session, signed_in().name, "comparison-removed", row.name, f"Comparison {row.name} removed.",
            question=row.question)  # fmt: skip
        return gone
