"""Connections: one engine a process and address, whoever comes first."""

import time
from concurrent.futures import ThreadPoolExecutor
from threading import Barrier

from vesk.store import session as store_session


def test_those_who_come_first_at_once_share_one_engine(settings, monkeypatch):
    """Of two engines one would be lost, with a connection that nobody closes."""
    made, make = [], store_session.create_engine

    def slowly(*args, **kwargs):
        made.append(args)
        time.sleep(0.2)
        return make(*args, **kwargs)

    monkeypatch.setattr(store_session, "create_engine", slowly)
    store_session.forget_engines()
    ready = Barrier(6)

    def come(_number):
        ready.wait()
        return store_session.engine(settings.sqlalchemy_url, quick=True)

    with ThreadPoolExecutor(6) as threads:
        assert len({id(one) for one in threads.map(come, range(6))}) == 1
    assert len(made) == 1
