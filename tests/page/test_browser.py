"""The page in a real browser: each task that it is for, a live run, a server that goes and comes
back.
"""

import csv
import io
import json
import re
import subprocess
import sys
import time
from urllib.parse import parse_qs, urlsplit

import numpy as np
import pytest

import vinestep as vs

from .conftest import Page, leaves_run


def open_sheet(tab, page, sheet, runs="leaves-6", **more):
    query = "&".join(
        f"{key}={value}" for key, value in {"runs": runs, "sheet": sheet, **more}.items()
    )
    tab.goto(f"{page.address}/?{query}")
    ready(tab, sheet)


def ready(tab, sheet):
    tab.wait_for_function(
        "name => document.querySelector('#sheet').dataset.ready === name", arg=sheet
    )
    tab.wait_for_function("() => document.querySelector('#sheet .evidence')?.children.length > 0")


def chart(tab, key):
    """What a chart holds, once it is drawn: its series by name."""
    tab.wait_for_function(
        "key => { const place = document.querySelector(`[data-chart='${key}']`);"
        " return place && echarts.getInstanceByDom(place); }",
        arg=key,
    )
    return tab.evaluate(
        "key => Object.fromEntries(echarts.getInstanceByDom("
        "document.querySelector(`[data-chart='${key}']`)).getOption().series"
        ".map(s => [s.name, s.data]))",
        key,
    )


def eventually(holds, seconds=15):
    end = time.monotonic() + seconds
    while not holds() and time.monotonic() < end:
        time.sleep(0.1)
    assert holds()


def evidence(tab):
    return tab.locator("#sheet .evidence").inner_text()


def downloaded(tab, selector):
    with tab.expect_download() as waiting:
        tab.click(selector)
    return waiting.value.path().read_bytes()


@pytest.mark.parametrize(
    "sheet",
    [
        "runs",
        "settings",
        "learning",
        "overfitting",
        "layers",
        "optimiser",
        "mistakes",
        "network",
        "models",
        "machine",
        "attributions",
        "study",
        "record",
    ],
)
def test_every_sheet_answers_its_question(tab, page, sheet):
    open_sheet(tab, page, sheet)
    assert tab.locator("h1").inner_text().endswith("?")
    assert len(evidence(tab)) > 40
    assert "null" not in evidence(tab)
    assert tab.locator(".trouble:visible").all_inner_texts() in ([], [""])


def test_which_of_twelve_left_the_others_first_when_and_at_what_value(tab, page, twelve):
    tab.goto(page.address)
    ready(tab, "runs")
    boxes = tab.locator("#runs input[type=checkbox]")
    for i in range(boxes.count()):
        if not boxes.nth(i).is_checked():
            boxes.nth(i).click()
    assert boxes.count() == 12
    tab.click("[data-sheet=compare]")
    ready(tab, "compare")
    runs = list(vs.runs.open(twelve))
    leader = vs.runs.leading_run(runs, "validation_loss")
    text = tab.locator("#leader").inner_text()
    assert text.startswith(f"{leader.run} has the best validation loss")
    assert f"with {float(f'{leader.value:.4g}'):g}" in text
    drawn = chart(tab, "compare")
    assert sum(name.endswith(" points") for name in drawn) == 12


def test_is_this_still_falling_or_is_it_noise(tab, large_page):
    open_sheet(tab, large_page, "learning", "many-501", against="step")
    assert "falls, by" in tab.locator("#trend").inner_text()
    open_sheet(tab, large_page, "learning", "many-501", against="step", low=190_000, high=190_400)
    assert "noise" in tab.locator("#trend").inner_text()


def test_what_happened_around_a_step_look_closer_and_come_back(tab, page):
    open_sheet(tab, page, "learning", against="step")
    whole = chart(tab, "learning")["training, by step points"]
    tab.fill("#low", "20")
    tab.fill("#high", "30")
    tab.click("#closer")
    tab.wait_for_url("**low=20**")
    tab.wait_for_function("() => document.querySelector('#whole')")
    ready(tab, "learning")

    def drawn():
        return chart(tab, "learning").get("training, by step points", [])

    eventually(lambda: [at for at, _ in drawn()] == list(range(20, 31)))
    tab.go_back()
    tab.wait_for_function("() => !document.querySelector('#whole')")
    eventually(lambda: drawn() == whole)


def test_a_stretch_is_picked_by_dragging(tab, page):
    open_sheet(tab, page, "learning", against="step")
    chart(tab, "learning")
    box = tab.locator("[data-chart=learning] canvas").first.bounding_box()
    tab.mouse.move(box["x"] + box["width"] * 0.4, box["y"] + box["height"] / 2)
    tab.mouse.down()
    tab.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + box["height"] / 2)
    tab.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + box["height"] / 2)
    tab.mouse.up()
    tab.wait_for_url("**low=**")
    query = parse_qs(urlsplit(tab.url).query)
    assert 10 < float(query["low"][0]) < float(query["high"][0]) < 40


def test_does_the_slower_run_win_per_minute_or_per_step(tab, page):
    open_sheet(tab, page, "compare", "leaves-6,leaves-2", against="seconds")
    assert "per step" in tab.locator("#leader").inner_text().lower()
    assert "per second" in tab.locator("#leader").inner_text()
    seconds = chart(tab, "compare")["leaves-6 points"]
    assert seconds[-1][0] > seconds[0][0] > 0


def test_which_runs_had_a_rate_above_and_how_did_they_end(tab, page, twelve):
    tab.goto(page.address)
    ready(tab, "runs")
    tab.fill("#where", "optimiser.rate>0.01")
    tab.keyboard.press("Enter")
    expected = vs.runs.open(twelve).table(where=["optimiser.rate>0.01"])["run"].tolist()
    tab.wait_for_function(
        "n => document.querySelectorAll('#runs li').length === n", arg=len(expected)
    )
    shown = tab.locator("#runs li").all_inner_texts()
    assert all(any(label in text for text in shown) for label in expected)
    assert all("finished" in text for text in shown)
    tab.fill("#where", "optimiser.rte>0.01")
    tab.keyboard.press("Enter")
    tab.wait_for_function(
        "() => document.querySelector('#filter-trouble').textContent.includes('Did you mean')"
    )


def test_which_layers_gradients_died_and_when(tab, page):
    open_sheet(tab, page, "layers", "broken-12")
    text = evidence(tab)
    assert re.search("4 gets no gradient since epoch [45]", text)
    first = tab.locator("tbody tr").first.inner_text()
    assert first.startswith(("4/", "0/"))
    assert "in trouble" in first
    assert chart(tab, "norms")["4/weight"][-1][1] in (0, None)


def test_the_worst_pictures_then_and_now(tab, page):
    open_sheet(tab, page, "mistakes", "leaves-7")
    cards = tab.locator(".examples li")
    assert cards.count() == 16
    errors = [
        float(text.split(" then, ")[1].split(" now")[0])
        for text in tab.locator(".examples li .hint").all_inner_texts()
    ]
    assert errors == sorted(errors, reverse=True)
    tab.wait_for_function(
        "() => [...document.querySelectorAll('.examples img')].every(i => i.complete && "
        "i.naturalWidth >= 96)"
    )
    earliest = tab.locator("#sheet select option").last.get_attribute("value")
    tab.locator("#sheet select").select_option(earliest)
    tab.wait_for_url("**look=**")
    tab.wait_for_function(
        "() => document.querySelector('#sheet .evidence .hint')?.textContent.includes('\"now\" at "
        "step 0')"
    )


def test_what_differs_between_the_model_in_use_and_this_one(tab, page):
    open_sheet(tab, page, "models", "leaves-9")
    assert "In use: leaves 1, from leaves-6" in evidence(tab)
    tab.click("button:has-text('against leaves-9')")
    tab.wait_for_selector("caption:has-text('leaves 1 against leaves-9')")
    assert "optimiser.rate" in evidence(tab)
    tab.click("#sheet button:text-is('leaves-6')")
    ready(tab, "learning")
    assert "runs=leaves-6" in tab.url


def test_an_address_shows_somebody_else_the_same(tab, page, chromium):
    open_sheet(tab, page, "learning", "leaves-3", against="seconds", figure="accuracy")
    other = chromium.new_context().new_page()
    other.goto(tab.url)
    ready(other, "learning")
    assert chart(other, "learning") == chart(tab, "learning")
    assert evidence(other) == evidence(tab)
    other.context.close()


def test_numbers_are_handed_out(tab, page, twelve):
    open_sheet(tab, page, "learning")
    run = vs.runs.open(twelve)["leaves-6"]
    rows = list(csv.DictReader(io.StringIO(downloaded(tab, "a.csv").decode())))
    assert [float(row["loss"]) for row in rows] == run.steps["loss"].tolist()
    found = json.loads(downloaded(tab, "a.json"))
    assert [row["norm"] for row in found] == pytest.approx(run.steps["norm"].tolist(), rel=1e-12)
    assert downloaded(tab, "button.png").startswith(b"\x89PNG")
    open_sheet(tab, page, "compare", "leaves-6,leaves-2")
    rows = list(csv.DictReader(io.StringIO(downloaded(tab, "a.csv").decode())))
    assert {row["run"] for row in rows} == {"leaves-6", "leaves-2"}
    assert downloaded(tab, "button.png").startswith(b"\x89PNG")


def test_which_setting_matters(tab, page):
    open_sheet(tab, page, "compare", "leaves-1,leaves-6")
    tab.wait_for_selector("#effects table")
    assert "optimiser.rate" in tab.locator("#effects").inner_text()


def test_markup_in_names_and_notes_is_shown_and_not_run(tab, page, twelve):
    evil = "<img src=x onerror=\"document.title='taken'\"><script>document.title='taken'</script>"
    run = vs.runs.open(twelve)["leaves-4"]
    run.note(evil)
    run.tag(["<b>bold</b>"])
    open_sheet(tab, page, "record", "leaves-4")
    assert evil in evidence(tab)
    assert "<b>bold</b>" in evidence(tab)
    assert tab.title() != "taken"


def test_a_note_is_written_on_the_page(tab, page, twelve):
    open_sheet(tab, page, "record", "leaves-5")
    tab.fill("#note", "the frost was late")
    tab.click("#add-note")
    tab.wait_for_function(
        "() => document.querySelector('#sheet').innerText.includes('the frost was late')"
    )
    assert vs.runs.open(twelve)["leaves-5"].notes[-1]["text"] == "the frost was late"


def test_with_the_keyboard_alone(tab, page):
    tab.goto(page.address)
    ready(tab, "runs")
    tab.goto(f"{page.address}/?runs=broken-12")
    ready(tab, "learning")
    tab.keyboard.press("3")
    ready(tab, "overfitting")
    tab.keyboard.press("]")
    ready(tab, "layers")
    tab.keyboard.press("Tab")
    assert tab.evaluate("document.activeElement.className") == "skip"
    reached = set()
    for _ in range(60):
        tab.keyboard.press("Tab")
        reached.add(
            tab.evaluate(
                "document.activeElement.id || document.activeElement.dataset.sheet || "
                "document.activeElement.dataset.label || ''"
            )
        )
    assert {"where", "sort", "learning", "compare", "leaves-6"} <= reached
    unnamed = tab.evaluate(
        "[...document.querySelectorAll('button, input, select, img, [role=img]')].filter(e => "
        "!(e.innerText || e.labels?.length ||"
        " e.getAttribute('aria-label') || e.alt)).map(e => e.outerHTML)"
    )
    assert unnamed == []


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_on_a_phone_nothing_is_wider_than_the_screen(chromium, page, scheme):
    context = chromium.new_context(viewport={"width": 390, "height": 844}, color_scheme=scheme)
    phone = context.new_page()
    for sheet in ("learning", "compare", "layers", "mistakes", "models"):
        open_sheet(phone, page, sheet, "leaves-6,leaves-2")
        assert phone.evaluate("document.documentElement.scrollWidth") <= 390
    context.close()


def test_nothing_outside_is_asked(tab, page):
    asked = []
    tab.on("request", lambda request: asked.append(request.url))
    for sheet in ("learning", "layers", "mistakes", "compare"):
        open_sheet(tab, page, sheet, "leaves-6,leaves-2")
    assert asked
    assert all(url.startswith((page.address, "data:", "blob:")) for url in asked)


LIVE = """
import sys, time
import numpy as np
import vinestep as vs
x = np.random.default_rng(0).normal(size=(64, 3)).astype(np.float32)
training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error, seed=2)
slowly = vs.observers.Scheduled(lambda run: time.sleep(0.02), steps=1)
looking = [vs.observers.Steps(), vs.observers.Checkpoints(seconds=5.0), slowly]
batches = vs.data.Dataset(x, x[:, :1]).batches(8)
training.run(batches, epochs=4000, observers=looking, record=sys.argv[1], name="live")
"""


@pytest.fixture
def live(tmp_path):
    root = tmp_path / "records"
    root.mkdir()
    running = Page(root)
    processes = []

    def start():
        processes.append(
            subprocess.Popen(
                [sys.executable, "-c", LIVE, str(root)], stderr=subprocess.PIPE, text=True
            )
        )
        return processes[-1]

    yield running, start
    running.stop()
    for process in processes:
        process.kill()
        process.wait()


def points(tab):
    return len(
        chart(tab, "learning").get("loss points")
        or chart(tab, "learning").get("training, by step points")
        or []
    )


def test_a_live_run_appears_grows_and_is_stopped_while_the_server_goes_and_comes_back(
    tab, live, chromium
):
    page, start = live
    tab.goto(page.address)
    tab.wait_for_function(
        "() => document.querySelector('#sheet').innerText.includes('There is no run yet')"
    )
    mark = tab.evaluate("window.here = Math.random()")
    process = start()
    tab.wait_for_selector("#runs li:has-text('live-1')", timeout=30_000)
    tab.click("#runs button:has-text('live-1')")
    ready(tab, "learning")
    tab.wait_for_selector("[data-chart=learning] canvas")
    first = points(tab)
    tab.wait_for_function(
        "key => { const c = "
        "echarts.getInstanceByDom(document.querySelector(`[data-chart=learning]`));"
        f" return c && c.getOption().series[0].data.length > {first + 30} "
        "}",
        arg="",
        timeout=20_000,
    )
    other = chromium.new_context().new_page()
    other.goto(tab.url)
    ready(other, "learning")

    page.stop()
    tab.wait_for_function("() => document.querySelector('#line').className === 'gone'")
    page.start(page.port)
    tab.wait_for_function(
        "() => document.querySelector('#line').textContent === 'live'", timeout=20_000
    )
    grown = points(tab)
    tab.wait_for_function(
        "() => echarts.getInstanceByDom(document.querySelector('[data-chart=learning]'))"
        f".getOption().series[0].data.length > {grown}",
        timeout=20_000,
    )
    assert tab.evaluate("window.here") == mark, "the page was not loaded anew"

    tab.click("[data-sheet=record]")
    ready(tab, "record")
    token = tab.evaluate("document.body.dataset.token")
    tab.reload()  # the new server has a new token
    ready(tab, "record")
    assert tab.evaluate("document.body.dataset.token") != token
    tab.click("#stop")
    assert process.wait(30) == 0, process.stderr.read()
    tab.wait_for_function(
        "() => document.querySelector('#sheet').innerText.includes('live-1 is interrupted')",
        timeout=20_000,
    )
    other.wait_for_selector("#runs .state.interrupted", timeout=20_000)
    other.context.close()
    assert "asked on the page" in vs.runs.open(page.root)["live-1"].reason


def test_a_run_that_is_removed_while_it_is_watched(tab, live):
    page, _ = live
    leaves_run(page.root, epochs=2)
    tab.goto(f"{page.address}/?runs=leaves-1&sheet=learning")
    ready(tab, "learning")
    vs.runs.open(page.root)["leaves-1"].remove()
    tab.wait_for_function(
        "() => document.querySelector('#sheet').innerText.includes('There is no run')",
        timeout=20_000,
    )
    assert tab.locator("#runs li").count() == 0


def test_many_and_long_runs_open_in_time(tab, large_page):
    page, took = large_page, {}
    for what, path in (
        ("table of runs", ""),
        ("long run", "?runs=many-501&sheet=learning"),
        ("compare", "?runs=many-1,many-2,many-3,many-501&sheet=compare&figure=loss&against=step"),
    ):
        begun = time.perf_counter()
        tab.goto(f"{page.address}/{path}")
        tab.wait_for_function(
            "() => document.querySelector('[data-chart] canvas, .rows tbody .open') && "
            "document.querySelector('#runs-hint').textContent.includes('of 501 runs')"
        )
        took[what] = time.perf_counter() - begun
    import psutil

    memory = psutil.Process(page.process.pid).memory_info().rss >> 20
    print(took, f"{memory} MB")
    assert memory < 1500
    assert max(took.values()) < 30, (
        took
    )  # what is wanted stands in the benchmarks; this catches what never ends


def test_a_study_and_what_mattered_have_their_sheets(tab, tmp_path):
    x = np.random.default_rng(0).normal(size=(60, 3))

    def trial(settings, **options):
        optimiser = vs.optimisers.Adam(settings["rate"])
        training = vs.Training(vs.Dense(1), task=vs.tasks.Numbers(), optimiser=optimiser)
        part, held = vs.data.Dataset(x, 3 * x[:, 1:2]).split(0.7, 0.3, seed=0)
        return training.run(
            part.batches(5),
            validation=held.batches(64),
            observers=[vs.observers.Attributions(2)],
            **options,
        )

    rates = {"rate": [0.001, 0.003, 0.01, 0.03, 0.1, 0.3]}
    root = tmp_path / "rates"
    vs.training.search(trial, rates, folder=root, how="grid", epochs=4, processes=1)
    served = Page(root)
    try:
        tab.goto(f"{served.address}/?sheet=study&runs=trial5-6")
        answer = tab.wait_for_selector("#study").inner_text()
        assert answer.startswith("The search rates has 6 runs. Best validation loss:")
        assert "with rate 0.3" in answer or "with rate 0.1" in answer
        tab.wait_for_selector("[data-chart=study] canvas")
        tab.click("button[aria-label='Open trial5-6']")
        tab.click("[data-sheet=attributions]")
        answer = tab.wait_for_selector("#attributions").inner_text()
        assert answer.startswith("Without 1 the loss rises")
        tab.wait_for_selector("[data-chart=importances] canvas")
        shown = tab.wait_for_selector("img[alt^='The mean answer']")
        assert shown.evaluate("image => image.decode().then(() => image.naturalWidth)") > 1000
    finally:
        served.stop()
