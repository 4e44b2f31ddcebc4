from contextlib import closing


def lock_for_ever(conn, code):
    with conn:
        with conn.cursor() as cur:
            cur.execute("select code from budget where code = %s for update", (code,))  # finds unbounded-wait
            return cur.fetchone()


def lock_table(conn):
    with conn:
        with conn.cursor() as cur:
            cur.execute("lock table budget in exclusive mode")  # finds unbounded-wait


def lock_shared(conn, code):
    with conn:
        with closing(conn.cursor()) as cur:
            cur.execute("select hours from budget where code = %s for share", (code,))  # finds unbounded-wait
            return cur.fetchone()


def skip_locked(conn):
    with conn:
        with conn.cursor() as cur:
            cur.execute("select code from budget order by code for update skip locked limit 1")
            return cur.fetchone()


def lock_table_or_not(conn):
    with conn:
        with conn.cursor() as cur:
            cur.execute("lock table budget in exclusive mode nowait")
