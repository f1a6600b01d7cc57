"""Location and orientation of panels, as people write them.

Latitudes and longitudes of towns are geographic facts, rounded to a tenth of a degree, which is
precise enough for the sun.
"""

from __future__ import annotations

import re

from needle.document import DocumentError

#: Town: degrees north, degrees east.
TOWNS = {
    "Accra": (5.6, -0.2),
    "Adelaide": (-34.9, 138.6),
    "Amman": (32.0, 35.9),
    "Amsterdam": (52.4, 4.9),
    "Anchorage": (61.2, -149.9),
    "Ankara": (39.9, 32.9),
    "Athens": (38.0, 23.7),
    "Atlanta": (33.7, -84.4),
    "Auckland": (-36.8, 174.8),
    "Bangkok": (13.8, 100.5),
    "Beirut": (33.9, 35.5),
    "Berlin": (52.5, 13.4),
    "Bogotá": (4.7, -74.1),
    "Boston": (42.4, -71.1),
    "Brisbane": (-27.5, 153.0),
    "Bucharest": (44.4, 26.1),
    "Buenos Aires": (-34.6, -58.4),
    "Cairo": (30.0, 31.2),
    "Calgary": (51.0, -114.1),
    "Cape Town": (-33.9, 18.4),
    "Caracas": (10.5, -66.9),
    "Casablanca": (33.6, -7.6),
    "Chicago": (41.9, -87.6),
    "Colombo": (6.9, 79.9),
    "Copenhagen": (55.7, 12.6),
    "Dakar": (14.7, -17.4),
    "Dallas": (32.8, -96.8),
    "Delhi": (28.6, 77.2),
    "Denver": (39.7, -105.0),
    "Dhaka": (23.8, 90.4),
    "Dublin": (53.3, -6.3),
    "Durban": (-29.9, 31.0),
    "Edinburgh": (56.0, -3.2),
    "Halifax": (44.6, -63.6),
    "Hanoi": (21.0, 105.8),
    "Harare": (-17.8, 31.1),
    "Havana": (23.1, -82.4),
    "Helsinki": (60.2, 24.9),
    "Hobart": (-42.9, 147.3),
    "Hong Kong": (22.3, 114.2),
    "Honolulu": (21.3, -157.9),
    "Houston": (29.8, -95.4),
    "Istanbul": (41.0, 29.0),
    "Jakarta": (-6.2, 106.8),
    "Johannesburg": (-26.2, 28.0),
    "Kampala": (0.3, 32.6),
    "Karachi": (24.9, 67.0),
    "Kathmandu": (27.7, 85.3),
    "Kyiv": (50.5, 30.5),
    "La Paz": (-16.5, -68.1),
    "Lagos": (6.5, 3.4),
    "Lima": (-12.0, -77.0),
    "Lisbon": (38.7, -9.1),
    "London": (51.5, -0.1),
    "Los Angeles": (34.1, -118.2),
    "Lusaka": (-15.4, 28.3),
    "Madrid": (40.4, -3.7),
    "Manila": (14.6, 121.0),
    "Melbourne": (-37.8, 145.0),
    "Mexico City": (19.4, -99.1),
    "Miami": (25.8, -80.2),
    "Milan": (45.5, 9.2),
    "Minneapolis": (45.0, -93.3),
    "Montreal": (45.5, -73.6),
    "Mumbai": (19.1, 72.9),
    "Munich": (48.1, 11.6),
    "Nairobi": (-1.3, 36.8),
    "New York": (40.7, -74.0),
    "Oslo": (59.9, 10.8),
    "Paris": (48.9, 2.4),
    "Perth": (-32.0, 115.9),
    "Phoenix": (33.4, -112.1),
    "Port-au-Prince": (18.5, -72.3),
    "Prague": (50.1, 14.4),
    "Quito": (-0.2, -78.5),
    "Reykjavík": (64.1, -21.9),
    "Rio de Janeiro": (-22.9, -43.2),
    "Rome": (41.9, 12.5),
    "San Juan": (18.5, -66.1),
    "Santiago": (-33.4, -70.7),
    "São Paulo": (-23.6, -46.6),
    "Seattle": (47.6, -122.3),
    "Seoul": (37.6, 127.0),
    "Shanghai": (31.2, 121.5),
    "Singapore": (1.4, 103.8),
    "Stockholm": (59.3, 18.1),
    "Suva": (-18.1, 178.4),
    "Sydney": (-33.9, 151.2),
    "Taipei": (25.0, 121.6),
    "Tehran": (35.7, 51.4),
    "Tokyo": (35.7, 139.7),
    "Toronto": (43.7, -79.4),
    "Tunis": (36.8, 10.2),
    "Vancouver": (49.3, -123.1),
    "Vienna": (48.2, 16.4),
    "Warsaw": (52.2, 21.0),
    "Wellington": (-41.3, 174.8),
    "Windhoek": (-22.6, 17.1),
    "Yangon": (16.8, 96.2),
    "Zurich": (47.4, 8.5),
}

_POINTS = (
    "n",
    "nne",
    "ne",
    "ene",
    "e",
    "ese",
    "se",
    "sse",
    "s",
    "ssw",
    "sw",
    "wsw",
    "w",
    "wnw",
    "nw",
    "nnw",
)
_TILTS = {"flat": 0.0, "roof": 35.0, "steep roof": 50.0, "wall": 90.0, "upright": 90.0}


def town_at(latitude: float, longitude: float) -> str:
    """The town of the table at a place; empty if there is none."""
    return next(
        (
            name
            for name, (north, east) in TOWNS.items()
            if abs(north - latitude) < 0.051 and abs(east - longitude) < 0.051
        ),
        "",
    )


def azimuth_from_text(text: str) -> float:
    """Return degrees from ``south-east``, ``SSW``, ``150`` or ``150°``: 90 is east, 180 south.

    Raises
    ------
    DocumentError
    """
    plain = re.sub(r"[\s.°-]|degrees?", "", text.casefold())
    for word, letter in (("north", "n"), ("east", "e"), ("south", "s"), ("west", "w")):
        plain = plain.replace(word, letter)
    if plain in _POINTS:
        return 360.0 / len(_POINTS) * _POINTS.index(plain)
    return _degrees(plain, text, 360.0, "azimuth", "south-east, SSW or 150")


def tilt_from_text(text: str) -> float:
    """Return degrees from horizontal, from ``flat``, ``roof``, ``wall`` or ``30``.

    Raises
    ------
    DocumentError
    """
    words = " ".join(text.casefold().split())
    if words in _TILTS:
        return _TILTS[words]
    return _degrees(
        re.sub(r"[\s°]|degrees?", "", words), text, 90.0, "tilt", "flat, roof, wall or 30"
    )


def _degrees(plain: str, text: str, most: float, key: str, examples: str) -> float:
    try:
        degrees = float(plain.replace(",", "."))
    except ValueError:
        raise DocumentError(key, f"“{text[:30]}” is not understood: write {examples}") from None
    if not 0 <= degrees <= most:
        raise DocumentError(key, f"{degrees:g}° is not between 0 and {most:g}")
    return degrees
