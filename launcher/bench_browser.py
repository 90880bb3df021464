"""The bench in a real browser: how soon each room shows something in a large nursery, and whether it ever stutters."""

import argparse
import os
import statistics
import subprocess
import sys
import time
from typing import Any

from launcher.bench_big import BATCHES, LINES, Measure, _house
from launcher.state import free_port

PLACES = 300
RUNS = 3
AIM = 2.5
WORDS = "first content of the slowest main view ÷ that of the diary, in Chromium, 2 000 batches, 5 000 lines, 300 places; aim 2.5"
#: A view is there once its heading is, nothing is being fetched, and what it is for has been drawn.
VIEWS = {
    "/diary": "h1",
    "/orders": "tbody tr",
    "/batches?view=board": "[data-body]",
    "/batches?view=list": "tbody tr",
    "/places": "tbody tr",
    "/methods": "main nav a",
    "/sowing": "nav[aria-label='Cards by day'] a, nav[aria-label='Cards by day'] button",
    "/seedcrops": "h1",
    "/lots": "tbody tr",
    "/deliveries": "tbody tr",
    "/house": "main table",
}
THERE = """const [what, done] = arguments; const look = () => {
  const main = document.getElementById('work');
  if (main?.querySelector('h1') && main.querySelector(what) && !main.innerText.includes('Fetching')) done(performance.now());
  else requestAnimationFrame(look); }; look();"""
#: As a wheel is turned fast, and as the bar at the side is torn down, px a frame.
SPEEDS = {"": 100, ", torn": 350}
#: Scrolls to the end in steps, a step a frame, and says every task of more than 50 ms meanwhile.
SCROLL = """const [px, done] = arguments; const long = []; const main = document.getElementById('work');
const watch = new PerformanceObserver((list) => long.push(...list.getEntries().map((one) => Math.round(one.duration))));
watch.observe({ type: 'longtask' }); let n = 0;
const step = () => { main.scrollTop += px; if (++n < 120) requestAnimationFrame(step);
  else setTimeout(() => { watch.disconnect(); done(long); }, 200); }; requestAnimationFrame(step);"""
WATCH = """window.__long = []; new PerformanceObserver((list) =>
  window.__long.push(...list.getEntries().map((one) => Math.round(one.duration)))).observe({ type: 'longtask' });"""


def measure(chosen: argparse.Namespace) -> Measure:
    """One ratio, and in its note the milliseconds of every view and the tasks that were too long."""
    del chosen
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "aldrip.settings")
    import django

    django.setup()
    ctx = _house(BATCHES, LINES)
    _many_places(ctx)
    from django.conf import settings
    from django.test import Client

    client = Client()
    client.force_login(ctx.user)
    port = free_port()
    serve = f"from waitress import serve; from aldrip.wsgi import application; serve(application, host='127.0.0.1', port={port}, threads=4)"
    server = subprocess.Popen([sys.executable, "-c", serve], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    from tests.browser.driver import make_driver

    driver = make_driver()
    driver.set_script_timeout(120)
    try:
        return _measured(
            driver,
            f"http://127.0.0.1:{port}",
            settings.SESSION_COOKIE_NAME,
            client.cookies[settings.SESSION_COOKIE_NAME].value,
        )
    finally:
        driver.quit()
        server.terminate()
        server.wait(20)


def _measured(driver: Any, at: str, name: str, session: str) -> Measure:
    for _ in range(60):
        try:
            driver.get(f"{at}/healthz")
            if "ok" in driver.page_source:
                break
        except Exception:
            pass
        time.sleep(0.5)
    driver.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride", {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    )
    driver.add_cookie({"name": name, "value": session, "path": "/"})
    took: dict[str, float] = {}
    long: dict[str, list[int]] = {}
    for path, what in VIEWS.items():
        times = []
        for _ in range(RUNS + 1):  # the first fills the caches of both sides
            driver.get(f"{at}{path}")
            times.append(driver.execute_async_script(THERE, what))
        took[path] = statistics.median(times[1:])
        for how, px in SPEEDS.items():
            time.sleep(1.5)
            driver.execute_script("document.getElementById('work').scrollTop = 0")
            time.sleep(0.5)
            long[path + how] = driver.execute_async_script(SCROLL, px)
    driver.get(f"{at}/batches?view=board")
    driver.execute_async_script(THERE, "[data-body]")
    long["dragging on the board"] = _dragged(driver)
    slowest = max(took, key=lambda path: took[path])
    told = [f"{path} {ms:.0f} ms ({ms / took['/diary']:.1f} of the diary)" for path, ms in took.items()]
    stutter = {where: [ms for ms in found if ms > 50] for where, found in long.items()}
    told += [f"{where}: tasks over 50 ms: {found or 'none'}" for where, found in stutter.items()]
    note = "\n               ".join([f"slowest {slowest}; median of {RUNS}", *told])
    return Measure("browser", took[slowest], took["/diary"], took[slowest] / took["/diary"], AIM, note)


def _dragged(driver: Any) -> list[int]:
    time.sleep(2)
    driver.execute_script(WATCH)
    box = driver.execute_script(
        "const b = [...document.querySelectorAll('[data-body]')].map((one) => one.getBoundingClientRect())"
        ".find((one) => one.width > 30 && one.top > 160 && one.bottom < 780); return [b.x + 12, b.y + b.height / 2]"
    )

    def mouse(kind: str, x: float, y: float) -> None:
        driver.execute_cdp_cmd(
            "Input.dispatchMouseEvent",
            {"type": kind, "x": x, "y": y, "button": "left", "buttons": 1, "clickCount": 1},
        )

    mouse("mousePressed", *box)
    for n in range(60):
        mouse("mouseMoved", box[0] + n * 3, box[1] + (n % 20) * 8)
        time.sleep(0.016)
    driver.execute_cdp_cmd("Input.dispatchKeyEvent", {"type": "keyDown", "key": "Escape"})
    time.sleep(0.5)
    found: list[int] = driver.execute_script("return window.__long")
    return found


def _many_places(ctx: Any) -> None:
    """Hundreds of benches, and what stands spread over two hundred of them."""
    from django.db import connection

    from aldrip.places.models import Place, Site
    from aldrip.places.services import PlaceSpec, add_place

    site = Site.objects.filter(organisation=ctx.organisation).first()
    assert site is not None
    for n in range(PLACES - Place.objects.count()):
        add_place(ctx, site.pk, PlaceSpec(f"Bay {n + 1}", "bench", 400, set_point_c=18, excess_c=3))
    with connection.cursor() as cursor:
        cursor.execute(
            """update batches_occupancy o set place_id = (
                 select id from places_place p where p.kind = 'bench' order by id offset (o.stage_id % 200) limit 1)
               where place_id in (select id from places_place where kind = 'bench')"""
        )
        cursor.execute("analyze")
