"""A project with one clip in a database, without pages: what tests of jobs start from."""

from __future__ import annotations

from pathlib import Path

from keen_horizon.config import Settings
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations import clips, treating
from keen_horizon.store.database import connect, transaction
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, ClipState, Work


class Bench:
    """A project with one clip, and questions about it."""

    def __init__(self, settings: Settings, source: Path) -> None:
        self.engine = connect(settings.database_url)
        self.files = FileStore(settings.data)
        with transaction(self.engine) as session:
            project = clips.new_project(session, "Kill test")
            self.clip = clips.register_clip(session, self.files, project.id, source).id

    def ask(self, question):
        with transaction(self.engine) as session:
            return question(session)

    def ready(self) -> bool:
        return self.ask(lambda s: s.get_one(Clip, self.clip).state is ClipState.READY)

    def measure(self) -> int:
        return self.ask(lambda s: treating.request_measurement(s, s.get_one(Clip, self.clip), Treatment())).id

    def render(self) -> int:
        treatment = Treatment.from_json({"output": {"quality": 12}})
        return self.ask(lambda s: treating.request_render(s, s.get_one(Clip, self.clip), treatment))[-1].id

    def work(self, number: int) -> Work:
        return self.ask(lambda s: s.get_one(Work, number))

    def reached(self, number: int, frames: int) -> bool:
        work = self.work(number)
        assert work.state.open, work.error
        return work.done >= frames

    def finished(self, number: int) -> bool:
        return not self.work(number).state.open

    def leftovers(self) -> list[str]:
        return [path.name for path in self.files.work_path("x").parent.iterdir()]

    def newest(self) -> Work:
        return self.ask(lambda s: s.query(Work).order_by(Work.id.desc()).first())
