"""Every control of every screen, taken from the page itself, by keyboard and by mouse: none fails, each does or says something."""

import os

import pytest
from playwright.sync_api import Page

from browsing import LANE, until, wire_of

pytestmark = pytest.mark.browser
# ruff: noqa: E501
SESSION = "/s/salt-ferry"

# every control that can have the focus, by role, name, and which of those alike it is
CONTROLS = """() => {
  const implied = { BUTTON: "button", SELECT: "combobox", TEXTAREA: "textbox" };
  const seen = {};
  const named = (e) => (e.getAttribute("aria-label") ?? e.labels?.[0]?.textContent ?? e.textContent ?? "").replace(/\\s+/g, " ").trim();
  return [...document.querySelectorAll("header button, main button, main input, main select, main [role=slider], main [role=button], footer button")]
    .filter((e) => !e.disabled && e.getAttribute("aria-current") !== "true" && e.type !== "file" && e.checkVisibility() && e.getBoundingClientRect().width > 0)
    .map((e) => {
      const role = e.getAttribute("role") ?? (e.tagName === "INPUT" ? (["checkbox", "radio"].includes(e.type) ? e.type : "textbox") : implied[e.tagName]);
      const key = `${role} ${named(e)}`;
      seen[key] = (seen[key] ?? -1) + 1;
      window.walked ??= new Map();
      window.walked.set(`${key} ${seen[key]}`, e);
      return [role, named(e), seen[key]];
    });
}"""
# what the page is and says, so that it can be told whether anything has come of a press
STATE = """() => {
  const { version } = window.miclane?.state ?? {};
  const { playing, hear, variant, looping, first, last } = window.miclane?.player ?? {};
  const values = [...document.querySelectorAll("input, select")].map((e) => (e.type === "checkbox" || e.type === "radio" ? e.checked : e.value));
  return JSON.stringify([version, playing, hear, variant, looping, first, last, values, document.documentElement.dataset, document.body.innerHTML.length, document.activeElement?.outerHTML.slice(0, 80)]);
}"""
# they ask for a second press, or need what is not there without a drag or a file
MAY_DO_NOTHING = ("Type ", "Move ", "Choose files", "Words from a file", "Another take", "Undo", "Redo", "Hold for")
NOTHING = "nothing came of it"
FELL = "the focus fell to the page"


def pressed(page: Page, role: str) -> None:
    """What has the focus, by its key."""
    if role in ("slider", "combobox"):
        page.keyboard.press("ArrowRight" if role == "slider" else to_another(page))
    elif role in ("checkbox",):
        page.keyboard.press("Space")
    elif role == "textbox":
        typed(page)
    else:
        page.keyboard.down("Enter")
        page.wait_for_timeout(30)
        page.keyboard.up("Enter")


def to_another(page: Page) -> str:
    """The arrow that chooses otherwise in the list that has the focus: at its end there is nothing below."""
    last = page.evaluate(
        "(({ selectedIndex, options }) => selectedIndex === options.length - 1)(document.activeElement)"
    )
    return "ArrowUp" if last else "ArrowDown"


def typed(page: Page) -> None:
    page.keyboard.press("End")
    page.keyboard.type(" 2")
    page.keyboard.press("Enter")


# where the control can be hit, once it has been brought into view; what lies over it there, where something does
PLACE = """(key) => {
  const e = walked.get(key);
  if (!e?.isConnected) return null;
  e.scrollIntoView({ block: "center", inline: "center" });
  const r = (e.querySelector(".reach") ?? e).getBoundingClientRect();
  const spots = [[0.5, 0.5], [0.5, 0.25], [0.25, 0.5], [0.75, 0.5], [0.5, 0.8], [0.08, 0.5], [0.92, 0.5]].map(([x, y]) => [r.left + x * r.width, r.top + y * r.height]);
  const hit = spots.find(([x, y]) => { const at = document.elementFromPoint(x, y); return e === at || e.contains(at) || [...(e.labels ?? [])].some((l) => l.contains(at)); });
  return hit ?? document.elementFromPoint(...spots[0])?.outerHTML.slice(0, 90) ?? "beyond the window";
}"""


def standing(page: Page, control: str) -> list[float] | str | None:
    """Where it can be hit, once it stands still: what comes late may move it."""
    places: list[list[float] | str | None] = [page.evaluate(PLACE, control)]
    for _ in range(40):
        page.wait_for_timeout(20)
        places.append(page.evaluate(PLACE, control))
        if places[-1] == places[-2]:
            break
    return places[-1]


def clicked(page: Page, role: str, place: list[float]) -> None:
    """The same by the mouse: a rule is dragged, a list is chosen from (its own window is the browser's)."""
    page.mouse.move(*place)
    if role == "combobox":
        page.mouse.click(*place)
        until(page, "document.activeElement.options")  # drawn anew meanwhile it has the focus again a moment later
        page.keyboard.press(to_another(page))
        page.keyboard.press("Enter")
        return
    page.mouse.down()
    if role == "slider":
        page.mouse.move(place[0] + 5, place[1] + 1)
        page.mouse.move(place[0] + 14, place[1] + 2)
    page.wait_for_timeout(30)
    page.mouse.up()
    if role == "textbox":
        typed(page)


def settle(page: Page) -> None:
    """What was pressed is kept and drawn: what comes late would move what is pressed next from under the mouse."""
    until(
        page,
        "(document.body?.dataset.waiting ?? '0') === '0' && !document.querySelector('.htmx-request, [aria-busy=true]')",
    )


def walk(page: Page, address: str, by_mouse: bool) -> tuple[int, list[str]]:
    """Presses every control once; how many there were, and what is wrong."""
    wrong: list[str] = []
    count = 0
    for role, name, which in page.evaluate(CONTROLS):
        page.evaluate(CONTROLS)
        control = f"{role} {name} {which}"
        if by_mouse:
            place = standing(page, control)
            here = place is None or isinstance(place, list)
            if place is None:
                continue
        else:
            here = page.evaluate(
                "(key) => { const e = walked.get(key); return e?.isConnected ? (e.focus(), document.activeElement === e) : null; }",
                control,
            )
            if here is None:
                continue  # it has gone with what was pressed before it
        count += 1
        if not here:
            wrong.append(f"{control}: {f'lies under {place}' if by_mouse else 'cannot have the focus'}")
            continue
        before = page.evaluate(STATE)
        page.evaluate("window.before = true")
        if by_mouse:
            clicked(page, role, place)
        else:
            pressed(page, role)
        page.wait_for_timeout(50)
        settle(page)
        if page.evaluate("() => document.querySelector('#layer .menu, dialog[open]') !== null"):
            page.keyboard.press("Escape")
        elif not name.startswith(MAY_DO_NOTHING) and role not in ("radio", "textbox"):
            for _ in range(60):  # the first sound waits behind the pictures of the page
                if page.evaluate(STATE) != before:
                    break
                page.wait_for_timeout(100)
            else:
                wrong.append(f"{control}: {NOTHING}")
        for _ in range(15):  # what it was on may be drawn again; a page that is new has the focus
            if page.evaluate("document.activeElement !== document.body || !window.before"):
                break
            page.wait_for_timeout(100)
        else:
            wrong.append(f"{control}: {FELL}")
        if not page.url.split("#")[0].split("?")[0].endswith(address.split("?")[0]):
            page.goto(page.url.split("/s/")[0].rstrip("/") + address)
            until(page, "window.miclane !== undefined")
    return count, wrong


LEAD = ("take", "trim", "clean", "deess", "peaks", "level", "split", "tone", "again", "ceiling", "out")
SCREENS = [
    "/",
    SESSION,
    f"{SESSION}/map",
    f"{SESSION}/space",
    f"{SESSION}/print",
    *(f"{LANE}?stage={stage}" for stage in LEAD),
    f"{SESSION}/lane/return:plate?stage=duck",
    f"{SESSION}/lane/bus:mix?stage=out",
]


# a walk of all takes about ten minutes, so that every run goes through these, and MICLANE_GESTURES=all through the rest too
ALWAYS = (
    "/",
    SESSION,
    f"{SESSION}/map",
    f"{SESSION}/print",
    *(f"{LANE}?stage={s}" for s in ("clean", "deess", "split")),
)
ALL = os.environ.get("MICLANE_GESTURES") == "all"


@pytest.mark.parametrize("by_mouse", [False, True], ids=["keyboard", "mouse"])
@pytest.mark.parametrize("address", SCREENS if ALL else ALWAYS)
def test_every_control_does_or_says_something(at, demo, address: str, by_mouse: bool) -> None:
    page = at(address)
    refused: list[str] = []
    page.on("response", lambda r: refused.append(f"{r.status} {r.url} {r.text()}") if r.status >= 400 else None)
    if address != "/":
        until(page, "document.querySelector('#lufs').textContent !== '—'")
    count, wrong = walk(page, address, by_mouse)
    assert wrong == []
    refused += [f"{a.status} {a.address} {a.body!r}" for a in wire_of(page).answers if a.status >= 400]
    assert [r for r in refused if "/key " not in r] == []  # “D minor 2” is no key, and that is said
    assert count > (3 if address == "/" else 15)
