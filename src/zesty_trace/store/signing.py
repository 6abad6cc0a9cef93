"""The user's key for records: with one, each write of events is signed, so that a chain written anew is found out.

Ed25519 (RFC 8032) through PyNaCl. The key is in the user's configuration folder, readable by them alone; what is
signed is the number and the checksum of the newest event, which holds all events before it.
"""

from __future__ import annotations

import os
import secrets
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from zesty_trace.errors import InputError, StoreError
from zesty_trace.files import read_given
from zesty_trace.names import check_text

FILE = "records.key"


class Key(msgspec.Struct, frozen=True):
    """A key with its owner: `secret` and `public` are 32 bytes as hex digits, `made` a time (ISO 8601, UTC)."""

    secret: str
    public: str
    who: str
    made: str

    @property
    def short(self) -> str:
        """The key as it is shown."""
        return self.public[:16]

    def sign(self, number: int, checksum: str) -> str:
        """Return the signature of the event of this number, as hex digits."""
        from nacl.signing import SigningKey

        return SigningKey(bytes.fromhex(self.secret)).sign(message_of(number, checksum)).signature.hex()


def message_of(number: int, checksum: str) -> bytes:
    """Return what is signed for an event."""
    return f"zesty-trace records {number} {checksum}".encode()


def holds(public: str, signature: str, number: int, checksum: str) -> bool:
    """Whether a signature is that of the event of this number and checksum by the owner of a public key."""
    from nacl.exceptions import CryptoError
    from nacl.signing import VerifyKey

    try:
        VerifyKey(bytes.fromhex(public)).verify(message_of(number, checksum), bytes.fromhex(signature))
    except (CryptoError, ValueError, TypeError):
        return False
    return True


def key_path() -> Path:
    """Return where the key is: the user's configuration folder."""
    from platformdirs import user_config_path

    return user_config_path("zesty-trace") / FILE


def load_key() -> Key | None:
    """Return the user's key; None where they have set none up. StoreError for one that cannot be read."""
    path = key_path()
    if not os.path.lexists(path):
        return None
    try:
        key = msgspec.json.decode(read_given(path, "words"), type=Key)
        if len(bytes.fromhex(key.secret)) != 32 or len(bytes.fromhex(key.public)) != 32:
            raise ValueError("wrong length")
    except (InputError, OSError, ValueError, RecursionError, msgspec.MsgspecError) as error:
        hint = "Put it back from a copy, or take it away to write without signing"
        raise StoreError("The key that signs records cannot be read", str(path), hint) from error
    return key


def make_key(who: str) -> Key:
    """Make the user's key and keep it, for them alone to read. StoreError if there is one, or it cannot be kept."""
    from nacl.signing import SigningKey

    path = key_path()
    check_text(who, "name", 60)
    made = SigningKey(secrets.token_bytes(32))
    now = datetime.now(UTC).isoformat(timespec="milliseconds")
    key = Key(made.encode().hex(), made.verify_key.encode().hex(), who, now)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(msgspec.json.encode(key) + b"\n")
            file.flush()
            os.fsync(file.fileno())
    except FileExistsError as error:
        raise StoreError("There is a key already", str(path), "It goes on signing; take it away first") from error
    except OSError as error:
        with suppress(OSError):
            path.unlink()
        raise StoreError(f"Could not keep the key: {error.strerror}", str(path), "Check the folder") from error
    return key
