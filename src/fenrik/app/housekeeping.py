"""What has to be done again and again so that nothing grows without end.

Results over their limit go, least recently used first; files that no job's documents name go; revisions are
thinned with age. What a kept release stands on stays.
"""

from __future__ import annotations

import logging
from datetime import timedelta

from sqlalchemy import text
from sqlmodel import Session, select

from fenrik.app.jobs import Jobs
from fenrik.app.store import Usage
from fenrik.app.tables import KeptReleaseRow, now

log = logging.getLogger(__name__)

UNDO_STEPS = 200
"""Revisions of a job that are all kept: undo goes back at least so far. Older ones are kept one a day."""
FILE_GRACE = timedelta(hours=1)
"""A file that no document names yet may just have been uploaded."""
RUN_DAYS = 30

_THIN = text(
    """DELETE FROM revision v USING job j WHERE v.job_id = j.id AND v.number <> j.revision
       AND v.number < (SELECT n.number FROM revision n WHERE n.job_id = j.id ORDER BY n.number DESC
                        OFFSET :steps LIMIT 1)
       AND EXISTS (SELECT 1 FROM revision l WHERE l.job_id = v.job_id AND l.number > v.number
                   AND l.at::date = v.at::date)
       AND NOT EXISTS (SELECT 1 FROM run r WHERE r.job_id = v.job_id AND r.revision = v.number
                       AND r.state IN ('queued', 'running'))"""
)
_UNNAMED = text(
    """DELETE FROM job_file f WHERE f.at < :before AND NOT EXISTS (
         SELECT 1 FROM revision v WHERE v.job_id = f.job_id
         AND jsonb_path_exists(v.document, '$.** ? (@.type() == "string" && @ == $name)',
             jsonb_build_object('name', f.name)))"""
)
_UNUSED = text(
    """DELETE FROM blob b WHERE NOT EXISTS (SELECT 1 FROM job_file f WHERE f.sha256 = b.sha256)
       AND NOT EXISTS (SELECT 1 FROM shop_item s, jsonb_each_text(s.files) e WHERE e.value = b.sha256)
       AND b.sha256 IN (SELECT c.sha256 FROM blob c FOR UPDATE SKIP LOCKED)"""
)
_OLD_RUNS = text(
    """DELETE FROM run r WHERE r.updated < :before AND r.state NOT IN ('queued', 'running')
       AND EXISTS (SELECT 1 FROM run n WHERE n.job_id = r.job_id AND n.target = r.target AND n.id > r.id)"""
)


class Housekeeping:
    """Keeps one installation from growing without end: results at every call, the database once in
    `every`."""

    def __init__(
        self,
        jobs: Jobs,
        undo_steps: int = UNDO_STEPS,
        grace: timedelta = FILE_GRACE,
        every: timedelta = timedelta(hours=1),
    ) -> None:
        self.jobs, self._steps, self._grace, self._every = jobs, undo_steps, grace, every
        self._last = now() - every

    def keep(self) -> Usage:
        """Does what is due; gives what the results take afterwards. Raises what the database raises."""
        if now() - self._last >= self._every:
            self._last = now()
            self._thin()
        with Session(self.jobs.engine) as session:
            pinned = {key for keys in session.exec(select(KeptReleaseRow.results)) for key in keys}
        usage = self.jobs.store.sweep(pinned)
        if usage.bytes > usage.limit:
            taken, limit = usage.bytes / 1e9, usage.limit / 1e9
            log.warning(
                "results take %.1f GB, the limit is %.1f GB: kept releases stand on them", taken, limit
            )
        return usage

    def _thin(self) -> None:
        """Old revisions, files that nothing names, old runs."""
        with Session(self.jobs.engine) as session:
            session.execute(_THIN, {"steps": self._steps - 1})
            session.commit()
            session.execute(_UNNAMED, {"before": now() - self._grace})
            session.commit()
            session.execute(_UNUSED)
            session.execute(_OLD_RUNS, {"before": now() - timedelta(days=RUN_DAYS)})
            session.commit()
