"""The keys of encrypted pools: wrapped by a passphrase in the database, open in memory only.

A pool's key is 64 random bytes (AES-256-XTS, IEEE 1619). The passphrase goes through Argon2id
(RFC 9106) to a key that wraps it (AES key wrap, RFC 3394). While a pool is unlocked its key lies in a
folder that is memory, so a restart locks it; what stands on the drives is always encrypted.
"""

from __future__ import annotations

import base64
import hashlib
import os
import secrets
import shutil
import time
from pathlib import Path
from typing import Any

from argon2.low_level import Type, hash_secret_raw
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.keywrap import InvalidUnwrap, aes_key_unwrap, aes_key_wrap
from sqlmodel import col, select

from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.store.database import transaction
from pairshelf.store.settings import settings
from pairshelf.store.tables import PoolRow

_KEY_BYTES = 64
#: Of the passphrase that is made: groups of five characters, about 5 bits each.
_GROUPS = 6
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"
_TIME, _MEMORY_KIB, _LANES = 3, 65_536, 2


def new_passphrase() -> str:
    """A passphrase of about 148 bits, without letters that are mistaken for one another."""
    return "-".join("".join(secrets.choice(_LETTERS) for _ in range(5)) for _ in range(_GROUPS))


def _wrapping(passphrase: str, salt: bytes) -> bytes:
    return hash_secret_raw(passphrase.strip().encode(), salt, _TIME, _MEMORY_KIB, _LANES, 32, Type.ID)


def wrap(key: bytes, passphrase: str) -> dict[str, Any]:
    """A key as the database keeps it."""
    salt = secrets.token_bytes(16)
    wrapped = aes_key_wrap(_wrapping(passphrase, salt), key)
    return {"salt": base64.b64encode(salt).decode(), "wrapped": base64.b64encode(wrapped).decode()}


def unwrap(kept: dict[str, Any], passphrase: str) -> bytes:
    """The key; BadInput when it is not its passphrase."""
    try:
        wrapped = base64.b64decode(kept["wrapped"])
        return aes_key_unwrap(_wrapping(passphrase, base64.b64decode(kept["salt"])), wrapped)
    except InvalidUnwrap:
        raise BadInput(
            "This is not the passphrase of this pool.", code="wrong-passphrase", field="passphrase"
        ) from None


def new_key() -> bytes:
    """A fresh key."""
    return secrets.token_bytes(_KEY_BYTES)


def _folder() -> Path:
    memory = Path("/dev/shm")  # noqa: S108 - memory, in a folder of our own with rights for us alone
    mark = hashlib.sha256(
        f"{settings().database_url} {settings().devices.absolute()} {os.getuid()}".encode()
    ).hexdigest()
    folder = (memory if memory.is_dir() else settings().devices) / f"pairshelf-{mark[:16]}"
    folder.mkdir(mode=0o700, exist_ok=True)
    if folder.stat().st_uid != os.getuid():
        raise NotPossible("The folder for open keys belongs to somebody else.", code="keys-unsafe")
    return folder


def open_key(pool_id: int, key: bytes) -> None:
    """Unlock: the key lies in memory from now on."""
    path = _folder() / f"{pool_id}.key"
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(key)


def forget_key(pool_id: int) -> None:
    """Lock: the key is gone from memory."""
    (_folder() / f"{pool_id}.key").unlink(missing_ok=True)


def forget_all() -> None:
    """Lock whatever is unlocked, and leave no trace of this installation in memory."""
    shutil.rmtree(_folder())


#: Seconds after which a key whose pool is not there was left by a kill.
_LEFT_OVER = 600.0


def clear_keys() -> None:
    """Forget keys of pools that never came to be, or are no more."""
    old = [f for f in _folder().glob("*.key") if time.time() - f.stat().st_mtime > _LEFT_OVER]
    if old:
        with transaction() as session:
            there = set(session.exec(select(PoolRow.id).where(col(PoolRow.key).is_not(None))))
        for file in old:
            if int(file.stem) not in there:
                file.unlink(missing_ok=True)


def key_of(pool_id: int) -> bytes | None:
    """The open key of a pool, or None while it is locked."""
    try:
        key = (_folder() / f"{pool_id}.key").read_bytes()
    except FileNotFoundError:
        return None
    return key if len(key) == _KEY_BYTES else None


def is_open(pool_id: int) -> bool:
    """Whether the pool is unlocked."""
    return key_of(pool_id) is not None


def _cipher(key: bytes, address: int) -> Cipher[modes.XTS]:
    return Cipher(algorithms.AES(key), modes.XTS(address.to_bytes(16, "little")))


def encrypt(key: bytes, address: int, data: bytes | memoryview, block: int) -> bytes:
    """Blocks that stand at pool addresses from ``address`` on; each address has a tweak of its own."""
    return b"".join(
        _cipher(key, address + i).encryptor().update(data[i * block : (i + 1) * block])
        for i in range(len(data) // block)
    )


def decrypt(key: bytes, address: int, data: bytes | memoryview, block: int) -> bytes:
    """The other way."""
    return b"".join(
        _cipher(key, address + i).decryptor().update(data[i * block : (i + 1) * block])
        for i in range(len(data) // block)
    )
