"""Matter and waves, carried out on the screen's own apparatus."""

import pytest
from playwright.sync_api import Page

from tests.browser.conftest import Server
from tests.browser.screen import carry_out, of_fields


@pytest.mark.parametrize("experiment", of_fields("matter", "waves"))
def test_it_can_be_carried_out_on_the_screen(shared: Page, server: Server, experiment: str) -> None:
    carry_out(shared, server, experiment)
