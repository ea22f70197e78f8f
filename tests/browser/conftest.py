"""The browser that drives the interface."""

import pytest
from playwright.sync_api import expect

# The shell without a window: the browser with all its surfaces takes a quarter more of the machine.
CHROMIUM = "/usr/bin/chromium-headless-shell"
FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--autoplay-policy=no-user-gesture-required",
]  # fmt: skip
# The machine is shared and may stand still for half a minute: a page that answers late is none that does not answer.
WAIT_MS = 180_000
expect.set_options(timeout=WAIT_MS)
LONG_MS = 600_000  # for a day to be worked through


@pytest.fixture(scope="session")
def browser_type_launch_args(browser_type_launch_args):
    return {**browser_type_launch_args, "executable_path": CHROMIUM, "args": FLAGS}


@pytest.fixture(scope="session")
def browser_context_args(browser_context_args):
    return {**browser_context_args, "viewport": {"width": 1280, "height": 800}}


@pytest.fixture
def new_context(new_context):
    """Make contexts whose clicks and pages are waited for, too, as long as what is expected."""

    def patient(**asked):
        made = new_context(**asked)
        made.set_default_timeout(WAIT_MS)
        return made

    return patient
