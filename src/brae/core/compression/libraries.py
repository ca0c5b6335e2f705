"""Packers that are well-kept libraries: deflate in its wrappers, LZ4, Zstandard, LZMA, bzip2, Brotli.

Each is read as a stream, so that a bomb is noticed at one byte more than was announced. LZ4 blocks know no
stream; they are bounded by the buffer they are given.
"""

from __future__ import annotations

import bz2
import lzma
import struct
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Protocol

from brae.core.compression.base import LARGEST_MEMBER, UNBOUNDED, check_result, check_size, damaged, register
from brae.core.errors import FormatError, LimitError

#: streams are read in pieces, or the library would make room for all that may come
_PIECE = 1 << 20


class _Unpacker(Protocol):
    """How zlib, bz2 and lzma read a stream."""

    eof: bool

    def decompress(self, data: bytes, max_length: int) -> bytes: ...


@dataclass(eq=False)
class Stream:
    """A packer whose library reads streams with a bound (zlib, gzip, raw deflate, bzip2, xz, LZMA)."""

    name: str
    levels: tuple[int, ...]
    packer: Callable[[bytes, int], bytes]
    unpacker: Callable[[], Any]
    faults: tuple[type[Exception], ...]
    ratio: int = UNBOUNDED

    def pack(self, data: bytes, level: int) -> bytes:
        return self.packer(data, level)

    def unpack(self, data: bytes, size: int | None) -> bytes:
        most = check_size(size)
        unpacker = self.unpacker()
        try:
            # One byte more than announced is enough to notice an expansion bomb.
            result = unpacker.decompress(data, most + 1)
            result = check_result(result, size)
            tail = getattr(unpacker, "unconsumed_tail", b"")
            if not unpacker.eof and (tail or not hasattr(unpacker, "unconsumed_tail")):
                # The end mark may still lie unread behind the last byte.
                more = unpacker.decompress(tail, 1)
                if more:
                    raise FormatError(f"The packed bytes go on after {size} bytes.", expected="the end")
        except self.faults as error:
            raise damaged(error) from error
        if not unpacker.eof:
            raise FormatError("The packed bytes stop before their end mark.")
        return result

    def stream(self, data: bytes) -> Iterator[bytes]:
        unpacker, left = self.unpacker(), data
        try:
            while not unpacker.eof:
                part = unpacker.decompress(left, _PIECE)
                # zlib hands back what it has not read; the others keep it.
                left = getattr(unpacker, "unconsumed_tail", b"")
                if not part and not left and not unpacker.eof:
                    raise FormatError("The packed bytes stop before their end mark.")
                yield part
        except self.faults as error:
            raise damaged(error) from error

    def unpack_start(self, data: bytes, length: int) -> bytes:
        try:
            result: bytes = self.unpacker().decompress(data, length)
        except self.faults:
            return b""
        return result


def _deflate(window: int) -> tuple[Callable[[bytes, int], bytes], Callable[[], Any]]:
    def pack(data: bytes, level: int) -> bytes:
        packer = zlib.compressobj(level, zlib.DEFLATED, window)
        return packer.compress(data) + packer.flush()

    return pack, lambda: zlib.decompressobj(window)


#: deflate never packs better than 1 : 1032 (zlib's technical notes)
_DEFLATE = 1032
_LEVELS = (6, 9, 1, 8, 7, 5, 4, 3, 2)
# RFC 1950, RFC 1951, RFC 1952
register(Stream("zlib", _LEVELS, *_deflate(15), (zlib.error,), _DEFLATE))
register(Stream("deflate", _LEVELS, *_deflate(-15), (zlib.error,), _DEFLATE))
register(Stream("gzip", _LEVELS, *_deflate(31), (zlib.error,), _DEFLATE))
register(Stream("bzip2", (9, 6, 1), lambda data, level: bz2.compress(data, level), bz2.BZ2Decompressor, (OSError,)))
_LZMA_FAULTS = (lzma.LZMAError, EOFError)
register(
    Stream(
        "xz",
        (6, 9, 3, 1),
        lambda data, level: lzma.compress(data, lzma.FORMAT_XZ, preset=level),
        lambda: lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=LARGEST_MEMBER),
        _LZMA_FAULTS,
    )
)


@dataclass(eq=False)
class LzmaAlone:
    """The 13-byte LZMA header (properties, dictionary, size) and a raw stream, as games often store it.

    ``size_in_header`` is False for the five-byte form without the size.
    Source: the LZMA specification that comes with xz, ``lzma-file-format.txt``.
    """

    name: str
    size_in_header: bool
    levels: tuple[int, ...] = (6, 9, 3, 1)
    ratio: int = UNBOUNDED

    def pack(self, data: bytes, level: int) -> bytes:
        packed = lzma.compress(data, lzma.FORMAT_ALONE, preset=level)
        # The library writes "size unknown" and an end mark; the announced size is what games write.
        head = packed[:5]
        raw = lzma.compress(data, lzma.FORMAT_RAW, filters=[self._filter(head)])
        return head + (struct.pack("<Q", len(data)) if self.size_in_header else b"") + raw

    @staticmethod
    def _filter(head: bytes) -> dict[str, int]:
        properties, dictionary = struct.unpack("<BI", head)
        if properties >= 225 or dictionary > 1 << 30:
            raise FormatError("The LZMA header is damaged.", offset=0)
        return {
            "id": lzma.FILTER_LZMA1,
            "lc": properties % 9,
            "lp": properties // 9 % 5,
            "pb": properties // 45,
            "dict_size": max(dictionary, 4096),
        }

    def _read(self, data: bytes, most: int) -> tuple[bytes, int | None]:
        start = 13 if self.size_in_header else 5
        if len(data) < start:
            raise FormatError("The LZMA header is cut short.", offset=0)
        size = None
        if self.size_in_header:
            size = struct.unpack("<Q", data[5:13])[0]
            size = None if size == (1 << 64) - 1 else size
        try:
            unpacker = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=[self._filter(data[:5])])
            result = unpacker.decompress(data[start:], most)
        except (lzma.LZMAError, EOFError, ValueError) as error:
            raise damaged(error) from error
        return result, size

    def unpack(self, data: bytes, size: int | None) -> bytes:
        result, own = self._read(data, check_size(size) + 1)
        if own is not None and size is not None and own != size:
            raise FormatError(f"The LZMA header says {own} bytes.", expected=f"{size} bytes")
        return check_result(result, own if size is None else size)

    def unpack_start(self, data: bytes, length: int) -> bytes:
        try:
            return self._read(data, length)[0]
        except FormatError:
            return b""


register(LzmaAlone("lzma", True))
register(LzmaAlone("lzma-raw", False))


@dataclass(eq=False)
class Lz4Block:
    """An LZ4 block without a frame (the LZ4 Block Format description); its real size must be known.

    One byte of a length stands for at most 255 bytes.
    """

    name: str = "lz4"
    #: 0 is the fast one, the others LZ4 HC
    levels: tuple[int, ...] = (0, 9, 12, 4)
    ratio: int = 255

    def pack(self, data: bytes, level: int) -> bytes:
        import lz4.block

        if level == 0:
            return bytes(lz4.block.compress(data, store_size=False))
        return bytes(lz4.block.compress(data, mode="high_compression", compression=level, store_size=False))

    def unpack(self, data: bytes, size: int | None) -> bytes:
        import lz4.block

        if size is None:
            raise FormatError("An LZ4 block does not say how large it is.", expected="the role real-size")
        check_size(size)
        if size > self.ratio * len(data) + 64:
            raise LimitError(f"{len(data)} packed bytes claim to unpack to {size}.")
        try:
            # The library takes a buffer of no bytes for one of unknown size.
            result = bytes(lz4.block.decompress(data, uncompressed_size=max(size, 1)))
        except (lz4.block.LZ4BlockError, MemoryError, ValueError) as error:
            raise damaged(error) from error
        return check_result(result, size)

    def unpack_start(self, data: bytes, length: int) -> bytes:
        return _lz4_start(data, length)


def _lz4_start(data: bytes, length: int) -> bytes:
    """The first bytes of an LZ4 block, which the library only reads whole (LZ4 Block Format description)."""
    out, at = bytearray(), 0
    try:
        while len(out) < length and at < len(data):
            token = data[at]
            at += 1
            count = token >> 4
            if count == 15:
                while True:
                    count += data[at]
                    at += 1
                    if data[at - 1] != 255:
                        break
            out += data[at : at + count]
            at += count
            if at + 2 > len(data):
                break
            back = data[at] | data[at + 1] << 8
            at += 2
            count = (token & 15) + 4
            if count == 19:
                while True:
                    count += data[at]
                    at += 1
                    if data[at - 1] != 255:
                        break
            if not 0 < back <= len(out):
                return b""
            for _ in range(min(count, length - len(out))):
                out.append(out[-back])
    except IndexError:
        pass
    return bytes(out[:length])


register(Lz4Block())


@dataclass(eq=False)
class Lz4Frame:
    """LZ4 frames (the LZ4 Frame Format description)."""

    name: str = "lz4-frame"
    levels: tuple[int, ...] = (0, 9, 12, 3)
    ratio: int = 255

    def pack(self, data: bytes, level: int) -> bytes:
        import lz4.frame

        return bytes(lz4.frame.compress(data, compression_level=level))

    def unpack(self, data: bytes, size: int | None) -> bytes:
        import lz4.frame

        unpacker = lz4.frame.LZ4FrameDecompressor()
        most = min(check_size(size), self.ratio * len(data) + 64)
        try:
            result = bytes(unpacker.decompress(data, most + 1))
        except (RuntimeError, EOFError) as error:
            raise damaged(error) from error
        result = check_result(result, size)
        if not unpacker.eof and unpacker.decompress(b"", 1):
            raise FormatError(f"The packed bytes go on after {size} bytes.", expected="the end")
        if not unpacker.eof:
            raise FormatError("The packed bytes stop before their end mark.")
        return result

    def stream(self, data: bytes) -> Iterator[bytes]:
        import lz4.frame

        unpacker, left = lz4.frame.LZ4FrameDecompressor(), data
        try:
            while not unpacker.eof:
                part = bytes(unpacker.decompress(left, _PIECE))
                left = b""
                if not part and not unpacker.eof:
                    raise FormatError("The packed bytes stop before their end mark.")
                yield part
        except (RuntimeError, EOFError) as error:
            raise damaged(error) from error

    def unpack_start(self, data: bytes, length: int) -> bytes:
        import lz4.frame

        try:
            return bytes(lz4.frame.LZ4FrameDecompressor().decompress(data, length))
        except (RuntimeError, EOFError):
            return b""


register(Lz4Frame())


#: a block of four bytes can become 128 KiB, so a stream is fed in small pieces
_FEED = 1 << 10
#: where memory is to stay small, in smaller ones: at most 8 MiB come out of one
_SIP = 1 << 8


@dataclass(eq=False)
class Zstandard:
    """Zstandard frames (RFC 8878)."""

    name: str = "zstd"
    levels: tuple[int, ...] = (3, 19, 1, 6, 9, 12, 15, 22)
    ratio: int = UNBOUNDED

    def pack(self, data: bytes, level: int) -> bytes:
        import zstandard

        return bytes(zstandard.ZstdCompressor(level=level).compress(data))

    def _read(self, data: bytes, most: int) -> tuple[bytes, bool]:
        import zstandard

        try:
            parts, total = [], 0
            unpacker = zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()
            for at in range(0, len(data), _FEED):
                if total >= most or unpacker.eof:
                    break
                parts.append(unpacker.decompress(data[at : at + _FEED]))
                total += len(parts[-1])
            return b"".join(parts)[:most], unpacker.eof
        except (zstandard.ZstdError, MemoryError) as error:
            raise damaged(error) from error

    def stream(self, data: bytes) -> Iterator[bytes]:
        import zstandard

        try:
            unpacker = zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()
            for at in range(0, len(data), _SIP):
                yield unpacker.decompress(data[at : at + _SIP])
                if unpacker.eof:
                    return
        except (zstandard.ZstdError, MemoryError) as error:
            raise damaged(error) from error
        raise FormatError("The packed bytes stop before their end.")

    def unpack(self, data: bytes, size: int | None) -> bytes:
        result, ended = self._read(data, check_size(size) + 1)
        result = check_result(result, size)
        if not ended:
            raise FormatError("The packed bytes stop before their end.")
        return result

    def unpack_start(self, data: bytes, length: int) -> bytes:
        try:
            return self._read(data, length)[0]
        except FormatError:
            return b""


register(Zstandard())


@dataclass(eq=False)
class Brotli:
    """Brotli streams (RFC 7932)."""

    name: str = "brotli"
    levels: tuple[int, ...] = (11, 9, 5, 1)
    ratio: int = UNBOUNDED

    def pack(self, data: bytes, level: int) -> bytes:
        import brotli

        return bytes(brotli.compress(data, quality=level))

    def _read(self, data: bytes, most: int) -> tuple[bytes, bool]:
        import brotli

        unpacker, parts, total, feed = brotli.Decompressor(), [], 0, data
        while total < most:
            part = unpacker.process(feed, output_buffer_limit=min(most - total, _PIECE))
            feed = b""
            if not part and (unpacker.is_finished() or unpacker.can_accept_more_data()):
                break
            parts.append(part)
            total += len(part)
        return b"".join(parts), unpacker.is_finished()

    def stream(self, data: bytes) -> Iterator[bytes]:
        import brotli

        unpacker, feed = brotli.Decompressor(), data
        try:
            while not unpacker.is_finished():
                part = unpacker.process(feed, output_buffer_limit=_PIECE)
                feed = b""
                if not part and not unpacker.is_finished() and unpacker.can_accept_more_data():
                    raise FormatError("The packed bytes stop before their end.")
                yield part
        except brotli.error as error:
            raise damaged(error) from error

    def unpack(self, data: bytes, size: int | None) -> bytes:
        import brotli

        try:
            result, finished = self._read(data, check_size(size) + 1)
        except brotli.error as error:
            raise damaged(error) from error
        result = check_result(result, size)
        if not finished:
            raise FormatError("The packed bytes stop before their end.")
        return result

    def unpack_start(self, data: bytes, length: int) -> bytes:
        import brotli

        try:
            return self._read(data, length)[0][:length]
        except brotli.error:
            return b""


register(Brotli())
