"""`./aldrip sower`: a tray sower and its scale for practice, spoken to over plain HTTP on this computer as a real scale could be.

`GET /scale` tells what lies on it [g]; `POST /sow` with a setting sows one tray. Needs no database and keeps nothing.
"""

import argparse
import json
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Lock
from typing import Any

from aldrip_core.practice_sower import USUAL_G, PracticeSower
from aldrip_core.refusal import Refused

SEED = 7
LONGEST = 1000  # bytes of a question


def device(seed: int, port: int = 0) -> ThreadingHTTPServer:
    """The sower, listening on this computer only; `port` 0 takes a free one."""
    sower, one_at_a_time = PracticeSower(seed), Lock()

    class Answers(BaseHTTPRequestHandler):
        timeout = 10

        def do_GET(self) -> None:
            if self.path == "/scale":
                return self._tell(200, {"grams": sower.shown_g})
            about = {"simulated": True, "setting_min": sower.setting_min, "setting_max": sower.setting_max}
            return self._tell(200, {**about, "more_is": sower.more_is.value})

        def do_POST(self) -> None:
            try:
                asked = json.loads(self.rfile.read(min(LONGEST, int(self.headers.get("Content-Length") or 0))))
                with one_at_a_time:
                    grams = sower.sow(
                        float(asked["setting"]),
                        evenly=bool(asked.get("evenly", True)),
                        of_g=max(1e-3, float(asked.get("of_g", USUAL_G))),
                    )
            except Refused as wrong:
                return self._tell(422, {"message": wrong.errors[0].message})
            except (ValueError, KeyError, TypeError):
                return self._tell(400, {"message": 'Write a setting: {"setting": 4.2}.'})
            return self._tell(200, {"grams": grams})

        def _tell(self, status: int, told: dict[str, Any]) -> None:
            body = json.dumps(told).encode()
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            """Nothing is written down."""

    return ThreadingHTTPServer(("127.0.0.1", port), Answers)


def main() -> None:
    options = argparse.ArgumentParser(prog="aldrip sower", description="a sower and its scale for practice")
    options.add_argument("--seed", type=int, default=SEED, help="which sower: another number, another curve")
    options.add_argument("--port", type=int, default=0)
    chosen = options.parse_args()
    with device(chosen.seed, chosen.port) as server:
        print(
            f"The sower for practice answers at  http://127.0.0.1:{server.server_address[1]}\nCtrl-C stops it.",
            flush=True,
        )
        server.serve_forever()


if __name__ == "__main__":
    main()
