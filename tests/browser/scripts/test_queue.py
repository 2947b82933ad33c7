"""The queue of a page alone: kept before it is sent, sent in order, gone from the browser only when the server has it."""

from playwright.sync_api import Page, expect

from tests.browser.scripts.conftest import HOME, Bare, taken

READ = "(texts) => texts.forEach((text, i) => { keep.keep('reading', `swings.t.${i + 1}.1`, { text }); })"


def kept(page: Page) -> list[str]:
    return page.evaluate("pending.entries().map((e) => e.body.text)")


def until(page: Page, question: str) -> None:
    for _ in range(200):
        if page.evaluate(question):
            return
        page.wait_for_timeout(20)
    raise AssertionError(f"never: {question}")


def away(_: dict) -> tuple[int, dict]:
    return 503, {}


def test_an_entry_stands_in_the_browser_until_the_server_has_it(bare: Bare) -> None:
    page = bare.open("", "pending", "keep")
    held: list[list[str]] = []

    def answer(batch: dict) -> tuple[int, dict]:
        held.append(page.evaluate("Object.keys(localStorage).filter((k) => k.startsWith('cavrel.entry.S.7.'))"))
        return taken(batch)

    bare.answer = away
    page.evaluate(READ, ["31.11"])
    until(page, "document.getElementById('kept').dataset.state === 'away'")
    assert page.evaluate("Object.keys(localStorage).filter((k) => k.startsWith('cavrel.entry.S.7.')).length") == 1
    expect(page.locator("#kept")).to_have_text("1 saved on this device, will be sent")
    bare.answer = taken
    until(page, "!pending.entries().length")
    assert page.evaluate("Object.keys(localStorage).filter((k) => k.startsWith('cavrel.entry.')).length") == 0
    assert len({entry["key"] for batch in bare.sent for entry in batch["entries"]}) == 1
    expect(page.locator("#kept")).to_have_text("saved 18:00:00")


def test_what_the_answer_does_not_name_stays(bare: Bare) -> None:
    page = bare.open("", "pending", "keep")

    def one(batch: dict) -> tuple[int, dict]:
        status, said = taken(batch)
        return status, {**said, "keys": said["keys"][:1]}

    bare.answer = away
    page.evaluate(READ, ["1", "2", "3"])
    until(page, "document.getElementById('kept').dataset.state === 'away'")
    bare.sent.clear()
    bare.answer = one
    until(page, "!pending.entries().length")
    assert bare.texts() == [["1", "2", "3"], ["2", "3"], ["3"]]


def test_a_clock_set_back_changes_no_order(bare: Bare) -> None:
    page = bare.open("", "pending")
    for i, moment in enumerate(("2026-12-01T18:00:00Z", "2026-12-01T17:00:00Z", "2026-12-01T16:00:00Z")):
        page.evaluate(
            "([i, at]) => pending.add({ key: `k${9 - i}`, kind: 'reading', slot: 'a.b.1.1', body: { text: String(i) }, made_at: at })",
            [i, moment],
        )
    assert kept(page) == ["0", "1", "2"]
    # A page opened later counts on, and so does one whose count was swept away.
    page.evaluate("localStorage.removeItem('cavrel.count.S.7')")
    page = bare.open("", "pending")
    page.evaluate("pending.add({ key: 'k0', kind: 'reading', slot: 'a.b.1.1', body: { text: '3' }, made_at: '' })")
    assert kept(page) == ["0", "1", "2", "3"]


def test_another_runs_entries_and_half_a_record_are_left_alone(bare: Bare) -> None:
    page = bare.open("", "pending")
    page.evaluate(
        'localStorage.setItem(\'cavrel.entry.S.77.000000000000001.x\', \'{"key":"x","body":{"text":"other"}}\')'
    )
    page.evaluate(
        'localStorage.setItem(\'cavrel.entry.T.7.000000000000001.x\', \'{"key":"x","body":{"text":"other"}}\')'
    )
    page.evaluate('localStorage.setItem(\'cavrel.entry.S.7.000000000000001.y\', \'{"key":"y","bo\')')
    assert kept(page) == []
    page.evaluate("pending.remove(new Set(['x', 'y']))")
    assert page.evaluate("localStorage.length") == 3


def test_what_is_refused_is_set_aside_with_its_reason(bare: Bare) -> None:
    page = bare.open("", "pending", "keep")

    def refuse(batch: dict) -> tuple[int, dict]:
        status, said = taken(batch)
        bad = [e["key"] for e in batch["entries"] if e["body"]["text"] == "x"]
        return status, {
            **said,
            "keys": [k for k in said["keys"] if k not in bad],
            "refused": dict.fromkeys(bad, "no number"),
        }

    bare.answer = refuse
    page.evaluate(READ, ["1", "x", "3"])
    until(page, "!pending.entries().length")
    expect(page.locator("#refused")).to_contain_text("Not accepted: no number. You typed: x")
    page = bare.open("", "pending", "keep")
    assert page.evaluate("pending.aside().map((a) => a.entry.body.text)") == ["x"]


def test_one_entry_that_breaks_the_server_does_not_hold_up_the_others(bare: Bare) -> None:
    page = bare.open("", "pending", "keep")
    page.clock.install()
    bare.answer = away
    page.evaluate(READ, ["1", "breaks", "3"])
    until(page, "document.getElementById('kept').dataset.state === 'away'")

    def breaks(batch: dict) -> tuple[int, dict]:
        return (500, {"error": "Fault", "what": "it broke"}) if "breaks" in str(batch["entries"]) else taken(batch)

    bare.answer = breaks
    for _ in range(100):
        page.clock.fast_forward(8000)
        page.wait_for_timeout(60)
        if not kept(page):
            break
    assert kept(page) == []
    assert page.evaluate("pending.aside().map((a) => [a.entry.body.text, a.what])") == [["breaks", "it broke"]]
    assert ["3"] in bare.texts()


def test_it_waits_longer_after_each_failure(bare: Bare) -> None:
    page = bare.open("", "pending", "keep")
    page.clock.install()
    page.clock.pause_at(page.evaluate("Date.now() + 1000") / 1000)  # or a busy machine's own time would be added
    bare.answer = away
    page.evaluate(READ, ["1"])
    for count, wait in enumerate((1000, 2000, 4000, 8000, 8000), 1):
        sent(page, bare, count)
        page.clock.run_for(wait - 200)
        page.wait_for_timeout(60)
        assert len(bare.sent) == count, f"sent again before {wait} ms"
        page.clock.run_for(400)
    sent(page, bare, 6)


def sent(page: Page, bare: Bare, many: int) -> None:
    """Until so many batches were refused, and the page knows it."""
    for _ in range(400):
        if len(bare.sent) >= many and page.evaluate("document.getElementById('kept').dataset.state") == "away":
            page.wait_for_timeout(60)
            assert len(bare.sent) == many
            return
        page.wait_for_timeout(20)
    raise AssertionError(f"{len(bare.sent)} of {many} were sent")


def test_an_old_token_is_renewed_and_the_same_entry_sent_again(bare: Bare) -> None:
    page = bare.open("", "pending", "keep")
    bare.answer = lambda batch: taken(batch) if batch["token"] == "second" else (400, {})
    page.evaluate(READ, ["1"])
    until(page, "!pending.entries().length")
    assert [batch["token"] for batch in bare.sent] == ["first", "second"]
    assert bare.sent[0]["entries"] == bare.sent[1]["entries"]


def test_two_tabs_send_each_entry_once(bare: Bare) -> None:
    page = bare.open("", "pending", "keep")
    other = page.context.new_page()
    other.goto(HOME)
    for module in ("pending", "keep"):
        other.evaluate("async (name) => { window[name] = await import(`/js/${name}.js`); }", module)
    # While another tab sends, this one waits its turn, and what it kept is seen by both.
    other.evaluate(
        "new Promise((on) => { pending.alone(() => { on(); return new Promise((done) => { window.letGo = done; }); }); })"
    )
    page.evaluate(READ, ["1"])
    page.wait_for_timeout(400)
    assert bare.sent == []
    assert other.evaluate("pending.entries().length") == 1
    other.evaluate("letGo()")
    until(page, "!pending.entries().length")
    assert bare.texts() == [["1"]]


def test_a_full_store_keeps_in_the_page_and_counts_it(bare: Bare) -> None:
    page = bare.open("", "pending")
    page.evaluate(
        "{ Storage.prototype.setItem = () => { throw new DOMException('full', 'QuotaExceededError'); }; } null"
    )
    for text in ("1", "2"):
        page.evaluate("(text) => pending.add({ key: text, body: { text } })", text)
    assert kept(page) == ["1", "2"]
    assert page.evaluate("pending.onlyHere()") == 2
    page.evaluate("pending.setDraft('swings.t.1.1', '3')")
    assert page.evaluate("pending.onlyHere()") == 2, "a half-typed cell is no entry"
    page.evaluate("pending.remove(new Set(['1']))")
    assert kept(page) == ["2"]


def test_undo_takes_back_the_newest_first_and_no_timing(bare: Bare) -> None:
    page = bare.open("", "pending", "keep")
    page.evaluate(
        "keep.keep('reading', 'swings.t.1.1', { text: '1' }); keep.keep('reading', 'swings.t.2.1', { text: '2' })"
    )
    page.evaluate("keep.keep('timer', 'timer:', { laps: [] }); keep.undo(); keep.undo(); keep.undo()")
    until(page, "!pending.entries().length")
    sent = [entry for batch in bare.sent for entry in batch["entries"]]
    assert [e["slot"] for e in sent if e["kind"] == "undo"] == ["swings.t.2.1", "swings.t.1.1"]
    timing = next(e for e in sent if e["kind"] == "timer")
    assert timing["slot"] == f"timer:{timing['key']}"


def test_a_draft_gives_its_key_only_to_what_was_typed(bare: Bare) -> None:
    page = bare.open("", "pending")
    draft = "localStorage.setItem('cavrel.draft.S.7.a.b.1.1', JSON.stringify({ text: ' 31.1 ', key: 'K' }))"
    page.evaluate(draft)
    assert page.evaluate("pending.endDraft('a.b.1.1', '31.1')") == "K"
    page.evaluate(draft)
    assert page.evaluate("pending.endDraft('a.b.1.1', '31.2')") is None
    assert page.evaluate("pending.drafts()") == []
