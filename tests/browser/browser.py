"""A headless browser driven over the WebDriver protocol (an open standard), with what its console and network said."""
import json
import shutil
import socket
import subprocess
import tempfile
import time
import urllib.request

FLAGS = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
         "--disable-background-networking", "--disable-component-update", "--disable-sync", "--hide-scrollbars"]


class Browser:
    """`with Browser(1280, 800) as browser: browser.open(path)`; ends everything that it began."""

    def __init__(self, width, height, dark=False):
        self.folder = tempfile.mkdtemp(prefix="antcrew-browser-")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        self.base = f"http://127.0.0.1:{port}"
        self.driver = subprocess.Popen(["chromedriver", f"--port={port}"], stdout=subprocess.DEVNULL,
                                       stderr=subprocess.DEVNULL)
        flags = FLAGS + [f"--user-data-dir={self.folder}", f"--window-size={width},{height}"]
        if dark:
            flags.append("--force-dark-mode")
        wanted = {"browserName": "chrome", "goog:chromeOptions": {"args": flags, "binary": "/usr/bin/chromium"},
                  "goog:loggingPrefs": {"browser": "ALL", "performance": "ALL"}}
        end = time.time() + 60
        while True:
            try:
                made = self.ask("POST", "/session", {"capabilities": {"alwaysMatch": wanted}})
                break
            except OSError:
                if time.time() > end:
                    raise
                time.sleep(0.1)
        self.session = "/session/" + made["sessionId"]
        self.command("Emulation.setDeviceMetricsOverride",
                     {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False})

    def __enter__(self):
        return self

    def __exit__(self, *_):
        try:
            self.ask("DELETE", self.session)
        except OSError:
            pass
        self.driver.terminate()
        self.driver.wait(20)
        shutil.rmtree(self.folder, ignore_errors=True)

    def ask(self, method, path, body=None):
        data = json.dumps(body).encode() if body is not None else None
        request = urllib.request.Request(self.base + path, data, {"Content-Type": "application/json"}, method=method)
        with urllib.request.urlopen(request, timeout=60) as answer:
            return json.load(answer)["value"]

    def command(self, name, parameters):
        return self.ask("POST", self.session + "/goog/cdp/execute", {"cmd": name, "params": parameters})

    def open(self, path):
        self.ask("POST", self.session + "/url", {"url": "file://" + path})

    def run(self, script, *arguments):
        return self.ask("POST", self.session + "/execute/sync", {"script": script, "args": list(arguments)})

    def keys(self, *keys):
        actions = []
        for key in keys:
            actions += [{"type": "keyDown", "value": key}, {"type": "keyUp", "value": key}]
        self.ask("POST", self.session + "/actions", {"actions": [{"type": "key", "id": "k", "actions": actions}]})

    def move_to(self, x, y):
        self.ask("POST", self.session + "/actions", {"actions": [
            {"type": "pointer", "id": "p", "parameters": {"pointerType": "mouse"},
             "actions": [{"type": "pointerMove", "duration": 0, "x": int(x), "y": int(y)}]}]})

    def said(self):
        """What the console said since it was last asked."""
        return [entry["message"] for entry in self.ask("POST", self.session + "/se/log", {"type": "browser"})]

    def requests(self):
        """Addresses that were asked for since it was last asked."""
        urls = []
        for entry in self.ask("POST", self.session + "/se/log", {"type": "performance"}):
            message = json.loads(entry["message"])["message"]
            if message["method"] == "Network.requestWillBeSent":
                urls.append(message["params"]["request"]["url"])
        return urls

    def picture(self, path):
        import base64
        with open(path, "wb") as file:
            file.write(base64.b64decode(self.ask("GET", self.session + "/screenshot")))
