"""Results leave the database for a folder, files are kept in pieces, runs are their own queue, changes name who made them."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0003"
down_revision = "0002"

PIECE_BYTES = 1024 * 1024


def upgrade() -> None:
    op.drop_table("artefact")  # results are computed again
    op.create_table(
        "blob_piece",
        sa.Column("sha256", sa.String, sa.ForeignKey("blob.sha256", ondelete="CASCADE"), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("content", sa.LargeBinary, nullable=False),
    )
    op.execute("ALTER TABLE blob_piece ALTER COLUMN content SET STORAGE EXTERNAL")
    op.add_column("blob", sa.Column("size", sa.BigInteger, nullable=False, server_default="0"))
    op.execute(
        f"""INSERT INTO blob_piece (sha256, number, content)
            SELECT sha256, n, substring(content FROM n * {PIECE_BYTES} + 1 FOR {PIECE_BYTES})
            FROM blob, generate_series(0, greatest(length(content) - 1, 0) / {PIECE_BYTES}) AS n"""
    )
    op.execute("UPDATE blob SET size = length(content)")
    op.drop_column("blob", "content")
    op.add_column("run", sa.Column("worker", sa.Integer))
    op.execute("UPDATE run SET state = 'queued' WHERE state = 'running'")
    op.create_index("run_state", "run", ["state"], postgresql_where=sa.text("state IN ('queued', 'running')"))
    op.add_column("revision", sa.Column("editor", sa.String, nullable=False, server_default=""))
    op.add_column("revision", sa.Column("editor_name", sa.String, nullable=False, server_default=""))
    op.add_column("job", sa.Column("problem", sa.String, nullable=False, server_default=""))
    op.add_column("job", sa.Column("checked", sa.String, nullable=False, server_default=""))
    op.add_column(
        "job_file", sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now())
    )
    op.add_column("kept_release", sa.Column("results", JSONB, nullable=False, server_default="[]"))
    op.execute(
        """CREATE FUNCTION tell_run() RETURNS trigger LANGUAGE plpgsql AS $$
           BEGIN PERFORM pg_notify('fenrik_run', NEW.job_id::text); RETURN NULL; END $$"""
    )
    op.execute(
        """CREATE FUNCTION tell_job() RETURNS trigger LANGUAGE plpgsql AS $$
           BEGIN PERFORM pg_notify('fenrik_run', NEW.id::text); RETURN NULL; END $$"""
    )
    op.execute("CREATE TRIGGER tell_job AFTER UPDATE ON job FOR EACH ROW EXECUTE FUNCTION tell_job()")
    op.execute(
        "CREATE TRIGGER tell_run AFTER INSERT OR UPDATE ON run FOR EACH ROW EXECUTE FUNCTION tell_run()"
    )
    _drop_former_queue()


def _drop_former_queue() -> None:
    """Tables, functions and types of the queue that earlier versions used beside the runs."""
    op.execute(
        """DO $$ DECLARE r record; BEGIN
             FOR r IN SELECT tablename FROM pg_tables WHERE schemaname = current_schema() AND tablename LIKE 'procrastinate\\_%' LOOP
               EXECUTE format('DROP TABLE IF EXISTS %I CASCADE', r.tablename); END LOOP;
             FOR r IN SELECT p.oid::regprocedure AS name FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
                      WHERE n.nspname = current_schema() AND p.proname LIKE 'procrastinate\\_%' LOOP
               EXECUTE format('DROP FUNCTION IF EXISTS %s CASCADE', r.name); END LOOP;
             FOR r IN SELECT t.typname FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
                      WHERE n.nspname = current_schema() AND t.typname LIKE 'procrastinate\\_%' AND t.typtype IN ('e', 'c')
                      AND NOT EXISTS (SELECT 1 FROM pg_class c WHERE c.oid = t.typrelid AND c.relkind <> 'c') LOOP
               EXECUTE format('DROP TYPE IF EXISTS %I CASCADE', r.typname); END LOOP;
           END $$"""
    )
