"""Server, worker, database and children are killed while a user works: nothing acknowledged is lost, all
serves again."""

from tests.chaos import BACK_SECONDS, torment


def test_whatever_is_killed_nothing_is_lost_and_all_serves_again(tmp_path):
    for folder in (tmp_path, tmp_path.parent, tmp_path.parent.parent):
        folder.chmod(0o755)
    out = torment(tmp_path, 12, seed=3)
    assert len(out.kills) >= 3
    assert (out.lost, out.standing) == ([], [])
    assert max(out.back_after) < BACK_SECONDS
