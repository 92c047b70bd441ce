"""URLs of one place that stand for those of another: a copy's for the live site's, those of an old host for a new one's."""

from __future__ import annotations

from collections.abc import Mapping

from indrel.base.sqltext import quoted
from indrel.core.address import origin_of, split


def folder_of(base: str) -> str:
    """The folder in which a site lives, as the start of its URLs."""
    parts = split(base)
    return parts.origin + parts.path.partition("?")[0].rpartition("/")[0] + "/"


class AddressMap:
    """Places that stand for others. A place is a host (a name without a port keeps the port that it meets), or the start of URLs
    with scheme, host and folder (`https://preview.example/next/`); hosts are compared as hosts, and the longest start counts."""

    def __init__(self, places: Mapping[str, str] | None = None) -> None:
        self.places = dict(places or {})
        starts = ((old, new) for old, new in self.places.items() if "://" in old)
        self._starts = sorted(starts, key=lambda pair: -len(pair[0]))
        self._hosts = {old: new for old, new in self.places.items() if "://" not in old}

    @classmethod
    def between(cls, old: str, new: str, places: Mapping[str, str] | None = None) -> AddressMap:
        """A map for two sites, by their bases: the scheme, too, where their hosts are named, or where only that differs."""
        given = dict(places or {})
        one, other = split(old), split(new)
        named = any(given.get(name) in (_authority(new), other.host) for name in (_authority(old), one.host))
        if one.origin != other.origin and (named or (not given and one.host == other.host)):
            given.setdefault(one.origin + "/", other.origin + "/")
        return cls(given)

    @classmethod
    def of_folders(cls, old: str, new: str) -> AddressMap:
        """A map for two copies of a site, by their bases: the folders in which they live stand for each other."""
        return cls({folder_of(old): folder_of(new)})

    def url(self, url: str) -> str:
        """The URL that stands for another; the same where none does."""
        for old, new in self._starts:
            if url.startswith(old):
                return new + url[len(old) :]
        if not self._hosts or "://" not in url:
            return url
        origin = origin_of(url)
        return self._by_host(origin) + url[len(origin) :]

    def origin(self, origin: str) -> str:
        """The origin that stands for another's home page."""
        return origin_of(self.url(origin + "/"))

    def _by_host(self, origin: str) -> str:
        parts = split(origin + "/")
        authority = _authority(origin)
        if authority in self._hosts:
            return f"{parts.scheme}://{self._hosts[authority]}"
        if parts.host not in self._hosts:
            return origin
        port = f":{parts.port}" if parts.port is not None else ""
        return f"{parts.scheme}://{self._hosts[parts.host]}{port}"

    def back(self) -> AddressMap:
        """The way back."""
        return AddressMap({new: old for old, new in self.places.items()})

    def sql(self, origin: str, path: str, origins: list[str]) -> tuple[str, str]:
        """The same over an origin's and a path's column, as SQL: the new origin and the new path. `origins` are all there are."""
        to_origin, to_path = [], []
        for old, new in self._starts:
            here, there = split(old), split(new)
            condition = f"{origin} = {quoted(here.origin)} AND starts_with({path}, {quoted(here.path)})"
            to_origin.append(f"WHEN {condition} THEN {quoted(there.origin)}")
            to_path.append(f"WHEN {condition} THEN {quoted(there.path)} || substr({path}, {len(here.path) + 1})")
        for one in origins if self._hosts else ():
            if (other := self._by_host(one)) != one:
                to_origin.append(f"WHEN {origin} = {quoted(one)} THEN {quoted(other)}")
        return (
            f"CASE {' '.join(to_origin)} ELSE {origin} END" if to_origin else origin,
            f"CASE {' '.join(to_path)} ELSE {path} END" if to_path else path,
        )


def _authority(url: str) -> str:
    return url.partition("://")[2].partition("/")[0]
