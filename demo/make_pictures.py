"""Draw the demo's photograph, and a notice with it.

Run with the development environment: `.venv/bin/python demo/make_pictures.py`. The results are
committed, with what the simulated model says about the picture.
"""

from __future__ import annotations

import random
from pathlib import Path

import docx
import numpy as np
import reportlab
from docx.shared import Inches
from PIL import Image, ImageDraw, ImageFilter, ImageFont

HERE = Path(__file__).parent / "pictures"
FONT = Path(reportlab.__file__).parent / "fonts" / "VeraBd.ttf"
WIDTH, HEIGHT = 960, 600
SAYS = """\
Description: A quay with two yellow bollards. The right bollard leans over and has a broken base\
 plate; a red and white barrier stands in front of it. Behind the quay lies a dark blue workboat.
Text: BOLLARD 7 - NO MOORING
"""
NOTICE = (
    ("Notice 9 of 2026: bollard 7 at the coal quay", "heading"),
    ("From 23 November 2026 vessels do not moor at bollard 7 at the coal quay.", "text"),
    ("The photograph was taken by the mooring crew on 22 November.", "text"),
    ("", "picture"),
    ("Bollards 6 and 8 carry 40 tonnes each and may be used as before.", "text"),
)


def photograph() -> Image.Image:
    """Draw the quay, with some grain and blur."""
    random.seed(7)
    sky = np.linspace((176, 198, 214), (224, 228, 226), HEIGHT)[:, None].repeat(WIDTH, axis=1)
    image = Image.fromarray(sky.astype(np.uint8))
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, 250, WIDTH, 430), fill=(64, 96, 112))
    for _ in range(260):
        x, y = random.randrange(WIDTH), random.randrange(252, 428)
        draw.line((x, y, x + random.randrange(12, 60), y), fill=(92, 124, 138), width=1)
    # The workboat.
    draw.polygon([(120, 300), (470, 300), (430, 372), (160, 372)], fill=(30, 44, 84))
    draw.rectangle((210, 232, 330, 300), fill=(214, 214, 206))
    draw.rectangle((226, 248, 312, 274), fill=(70, 90, 104))
    draw.line((390, 300, 390, 170), fill=(60, 60, 60), width=5)
    # The quay and its edge.
    draw.polygon([(0, 418), (WIDTH, 400), (WIDTH, HEIGHT), (0, HEIGHT)], fill=(150, 146, 138))
    draw.polygon([(0, 418), (WIDTH, 400), (WIDTH, 420), (0, 440)], fill=(104, 100, 94))
    for _ in range(500):
        x, y = random.randrange(WIDTH), random.randrange(445, HEIGHT)
        draw.ellipse((x, y, x + 3, y + 2), fill=random.choice([(132, 128, 122), (168, 164, 156)]))
    # One bollard is sound, the other leans.
    draw.ellipse((196, 470, 304, 508), fill=(84, 80, 70))
    draw.rounded_rectangle((222, 380, 278, 490), 14, fill=(228, 184, 40))
    draw.rounded_rectangle((206, 366, 294, 396), 14, fill=(206, 160, 28))
    draw.polygon([(566, 512), (604, 500), (690, 396), (646, 378)], fill=(228, 184, 40))
    draw.polygon([(622, 398), (690, 424), (712, 394), (642, 366)], fill=(206, 160, 28))
    draw.polygon([(540, 500), (600, 486), (580, 520)], fill=(84, 80, 70))
    draw.polygon([(612, 522), (668, 512), (630, 494)], fill=(84, 80, 70))
    for x in range(500, 780, 40):
        colour = (196, 44, 40) if (x // 40) % 2 else (238, 236, 230)
        draw.rectangle((x, 536, x + 40, 552), fill=colour)
    for x in (508, 770):
        draw.line((x, 500, x, 590), fill=(90, 90, 90), width=7)
    # The sign.
    draw.rectangle((726, 300, 940, 378), fill=(244, 242, 236), outline=(40, 40, 40), width=4)
    draw.line((832, 378, 832, 470), fill=(70, 70, 70), width=8)
    font = ImageFont.truetype(str(FONT), 24)
    draw.text((833, 326), "BOLLARD 7", font=font, fill=(30, 30, 30), anchor="mm")
    draw.text((833, 356), "NO MOORING", font=font, fill=(170, 30, 30), anchor="mm")
    grain = np.random.default_rng(7).normal(0, 5, (HEIGHT, WIDTH, 1))
    noisy = np.clip(np.asarray(image, dtype=float) + grain, 0, 255).astype(np.uint8)
    return Image.fromarray(noisy).filter(ImageFilter.GaussianBlur(0.8))


def main() -> None:
    HERE.mkdir(exist_ok=True)
    path = HERE / "quay-photo.jpg"
    photograph().save(path, "JPEG", quality=88)
    (HERE / "quay-photo.txt").write_text(SAYS)
    document = docx.Document()
    for text, kind in NOTICE:
        if kind == "heading":
            document.add_heading(text, 1)
        elif kind == "text":
            document.add_paragraph(text)
        else:
            document.add_picture(str(path), width=Inches(6))
    document.core_properties.title = NOTICE[0][0]
    document.save(str(HERE / "bollard-notice.docx"))


if __name__ == "__main__":
    main()
