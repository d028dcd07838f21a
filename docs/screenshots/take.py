#!/usr/bin/env python3
"""Takes the console's pictures from a running ./start: take.py URL OUT-FOLDER [NAME…].

Drives Debian's chromium through chromedriver's WebDriver interface.
"""
import base64, json, os, subprocess, sys, tempfile, time, urllib.request

url, out, wanted = sys.argv[1].rstrip("/"), sys.argv[2], sys.argv[3:]
PORT = 9517
FILES = tempfile.mkdtemp()
PASSWORD = "osmere-water-demo"


def call(method, path, body=None):
    request = urllib.request.Request(f"http://127.0.0.1:{PORT}{path}", method=method, data=json.dumps(body or {}).encode() if method == "POST" else None)
    request.add_header("Content-Type", "application/json")
    return json.loads(urllib.request.urlopen(request, timeout=60).read())["value"]


class Browser:
    def __init__(self, dark=False, width=1280, height=800):
        arguments = ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync",
                     f"--window-size={width},{height}", f"--user-data-dir={tempfile.mkdtemp()}"] + (["--force-dark-mode"] if dark else [])
        self.id = call("POST", "/session", {"capabilities": {"alwaysMatch": {"goog:chromeOptions": {"args": arguments, "binary": "/usr/bin/chromium"}}}})["sessionId"]
        self.run("Emulation.setDeviceMetricsOverride", {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False})
        if dark:
            self.run("Emulation.setEmulatedMedia", {"features": [{"name": "prefers-color-scheme", "value": "dark"}]})

    def run(self, command, parameters):
        return call("POST", f"/session/{self.id}/goog/cdp/execute", {"cmd": command, "params": parameters})

    def js(self, script, *arguments):
        return call("POST", f"/session/{self.id}/execute/sync", {"script": script, "args": list(arguments)})

    def go(self, path):
        call("POST", f"/session/{self.id}/url", {"url": url + path})
        time.sleep(1.2)

    def fill(self, label, text):
        self.js("""const label=[...document.querySelectorAll('label')].find(l=>l.textContent.startsWith(arguments[0]));const e=document.getElementById(label.htmlFor);
        Object.getOwnPropertyDescriptor(e.constructor.prototype,'value').set.call(e,arguments[1]);e.dispatchEvent(new Event(e.tagName==='SELECT'?'change':'input',{bubbles:true}))""", label, text)

    def press(self, text):
        found = "const b=[...document.querySelectorAll('button,a')].find(b=>b.textContent.trim().includes(arguments[0]));b?.click();return !!b"
        for _ in range(40):
            if self.js(found, text):
                break
            time.sleep(0.25)
        else:
            sys.exit(f"no button or link has the text {text}")
        time.sleep(1.0)

    def tab(self, name):
        self.js("[...document.querySelectorAll('[role=tab]')].find(tab=>tab.textContent.startsWith(arguments[0])).click()", name)
        time.sleep(1.0)

    def sign_in(self, name):
        self.go("/")
        self.fill("Sign-in name", name)
        self.fill("Password", PASSWORD)
        self.press("Sign in")
        time.sleep(1.5)

    def shot(self, name):
        if not wanted or name in wanted:
            with open(f"{out}/{name}.png", "wb") as file:
                file.write(base64.b64decode(call("GET", f"/session/{self.id}/screenshot")))
            print(name)

    def attach(self, selector, path):
        found = call("POST", f"/session/{self.id}/element", {"using": "css selector", "value": selector})
        call("POST", f"/session/{self.id}/element/{list(found.values())[0]}/value", {"text": path})
        time.sleep(1.5)

    def token(self):
        body = json.dumps({"sign_in_name": "ines", "password": PASSWORD, "channel": "client"}).encode()
        request = urllib.request.Request(url + "/api/v1/sign-in", body, {"Content-Type": "application/json"})
        return json.load(urllib.request.urlopen(request))["token"]

    def close(self):
        call("DELETE", f"/session/{self.id}")


driver = subprocess.Popen(["chromedriver", f"--port={PORT}"], stdout=subprocess.DEVNULL)
try:
    time.sleep(1)
    b = Browser()
    b.sign_in("tomas")
    b.shot("home")
    b.close()
    b = Browser()
    b.sign_in("ines")
    b.go("/vault")
    b.press("Weir lane")
    b.press("telemetry root")
    b.press("Reveal")
    b.shot("vault")
    b.go("/vault")
    b.press("Office")
    b.press("Rainfall service")
    b.tab("History")
    b.shot("history")
    b.go("/findings")
    b.shot("findings")
    b.go("/bin")
    b.shot("bin")
    b.go("/accounts?sort=state")
    b.shot("accounts")
    b.go("/devices")
    b.press("historian")
    b.shot("device")
    b.go("/policies")
    b.press("Edit")
    b.shot("policies")
    b.go("/audit?filter=outcome%3Drefused")
    b.shot("audit")
    b.go("/dialogues")
    b.press("ridge-switch")
    with open("demo/dialogues/ridge-switch-session.txt") as session:
        b.fill("Transcript", session.read())
    b.press("Rehearse")
    time.sleep(1)
    b.js("[...document.querySelectorAll('[role=status]')].at(-1)?.scrollIntoView({block: 'end'})")
    b.shot("dialogue")
    b.go("/people")
    b.js("document.querySelector(\"[aria-label='Select Sven Aldous']\").click()")
    time.sleep(1)
    b.shot("people")
    b.go("/vault")
    b.press("Pumping")
    b.shot("folder")
    b.js("document.querySelector(\"[aria-label^='Edit reveal to Duty']\").click()")
    time.sleep(1)
    b.js("[...document.querySelectorAll('form')].find(f=>f.textContent.includes('Edit …')).querySelector('select').value='use'")
    b.press("Edit …")
    b.shot("preview")
    b.go("/access")
    request = urllib.request.Request(url + "/api/v1/access", headers={"Authorization": f"Bearer {b.token()}"})
    text = urllib.request.urlopen(request).read().decode()
    with open(os.path.join(FILES, "access.toml"), "w") as file:
        file.write(text.replace('to = "group Contractors", level = "list"', 'to = "group Contractors", level = "use"').replace('members = ["person pim"]', 'members = ["person pim", "person yusra"]'))
        file.flush()
        b.attach("input[name=access-file]", file.name)
    b.js("[...document.querySelectorAll('h2')].forEach(h=>h.textContent==='Access file'&&h.scrollIntoView())")
    b.shot("access")
    b.go("/import-export")
    with open(os.path.join(FILES, "systems.csv"), "w") as sheet:
        sheet.write("System,Kind,User,Kennwort,Web,Group,Product\nDepot alarm,,depot,Quiet-barrel-58,alarm.example,Depot,\nDrawing board,Licence,,QX-4471-B,,Depot,Drawing board 4\nWeigh bridge,,scales,,scales.example,Depot,\n")
        sheet.flush()
        b.attach("input[type=file]", sheet.name)
    b.shot("import-and-export")
    b.close()
    b = Browser(dark=True)
    b.sign_in("yusra")
    b.go("/requests")
    b.shot("requests-dark")
    b.close()
    b = Browser(width=390, height=800)
    b.sign_in("tomas")
    b.shot("phone")
    b.close()
finally:
    driver.terminate()
