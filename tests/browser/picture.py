"""A picture of a page. Usage: picture.py PAGE PICTURE WIDTH HEIGHT light|dark"""
import sys
import time

from browser import Browser

page, picture, width, height, theme = sys.argv[1:6]
with Browser(int(width), int(height)) as browser:
    browser.command("Emulation.setEmulatedMedia", {"features": [{"name": "prefers-color-scheme", "value": theme}]})
    browser.open(page)
    time.sleep(0.3)
    browser.picture(picture)
