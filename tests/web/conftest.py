"""Pages asked without a browser and without a token; what the token guards is tested with one."""

import pytest

from vesk.web import create_app


@pytest.fixture
def app(settings):
    made = create_app(settings)
    made.config["WTF_CSRF_ENABLED"] = False
    return made


@pytest.fixture
def client(app):
    return app.test_client()
