"""A picture for the demo: a meter's display, drawn, since no real meter is shown."""

from __future__ import annotations

from io import BytesIO

from web.loads.photos import Picture, drawn_anew

_CASE, _GLASS, _INK, _WALL = (58, 64, 70), (188, 204, 176), (24, 30, 24), (222, 216, 204)


def meter_showing(lines: tuple[str, ...]) -> Picture:
    """A plug meter on a wall that shows these lines."""
    from PIL import Image, ImageDraw, ImageFont

    image = Image.new("RGB", (900, 1200), _WALL)
    draw = ImageDraw.Draw(image)
    draw.rounded_rectangle((190, 110, 710, 1090), 70, _CASE)
    draw.rounded_rectangle((250, 190, 650, 520), 24, _GLASS)
    font = ImageFont.load_default(92)
    for number, line in enumerate(lines[:3]):
        draw.text((630, 205 + 102 * number), line, _INK, font, anchor="ra")
    draw.ellipse((310, 640, 590, 920), (40, 44, 48))
    for left in (390, 476):
        draw.ellipse((left, 755, left + 36, 791), _WALL)
    content = BytesIO()
    image.save(content, "JPEG", quality=85)
    content.seek(0)
    return drawn_anew(content)
