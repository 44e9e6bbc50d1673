"""The database tells of every change of what pages show, so that no page has to ask"""

from alembic import op

revision = "0010"
down_revision = "0009"

TABLES = ("shot", "bake", "cache", "delivery", "errand")


def upgrade() -> None:
    op.execute("""
        CREATE FUNCTION tell_pages() RETURNS trigger LANGUAGE plpgsql AS $$
        DECLARE
            changed record := coalesce(NEW, OLD);
            shot integer;
        BEGIN
            IF TG_TABLE_NAME = 'shot' THEN
                shot := changed.id;
            ELSIF TG_TABLE_NAME IN ('cache', 'delivery') THEN
                SELECT shot_id INTO shot FROM bake WHERE id = changed.bake_id;
            ELSE
                shot := changed.shot_id;
            END IF;
            PERFORM pg_notify('zembrik', TG_TABLE_NAME || ' ' || coalesce(shot, 0) || ' ' || changed.id);
            RETURN NULL;
        END $$
    """)
    for table in TABLES:
        op.execute(
            f"CREATE TRIGGER tell_pages AFTER INSERT OR UPDATE OR DELETE ON {table} "
            "FOR EACH ROW EXECUTE FUNCTION tell_pages()"
        )


def downgrade() -> None:
    for table in TABLES:
        op.execute(f"DROP TRIGGER tell_pages ON {table}")
    op.execute("DROP FUNCTION tell_pages()")
