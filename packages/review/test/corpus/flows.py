import psycopg2


def commit_in_text(conn):
    with conn.cursor() as cur:
        cur.execute("begin")
        cur.execute("delete from budget where code = %s", ("B-1",))
        if cur.rowcount != 1:
            raise LookupError("B-1")
        cur.execute("commit")


def rollback_in_text(conn):
    with conn.cursor() as cur:
        cur.execute("rollback")


def several_in_text(conn):
    with conn.cursor() as cur:
        cur.execute("begin; delete from budget where code = 'B-1'; commit")  # finds transaction-inside, count-ignored


def commit_by_driver(conn, code):
    with conn:
        with conn.cursor() as cur:
            cur.execute("delete from budget where code = %s", (code,))
            if cur.rowcount != 1:
                raise LookupError(code)


def never(dsn, code):
    conn = psycopg2.connect(dsn)
    try:
        cur = conn.cursor()
        cur.execute("update budget set hours = 3 where code = %s", (code,))  # finds never-committed
        if cur.rowcount != 1:
            raise LookupError(code)
    finally:
        conn.close()


def on_one_path(dsn, code, keep):
    conn = psycopg2.connect(dsn)
    try:
        cur = conn.cursor()
        cur.execute("update budget set hours = 3 where code = %s", (code,))
        if cur.rowcount != 1:
            raise LookupError(code)
        conn.commit()
    except Exception:
        conn.rollback()
        raise
    finally:
        conn.close()


def lock_or_not(conn, code):
    with conn:
        with conn.cursor() as cur:
            cur.execute("select code from budget where code = %s for update nowait", (code,))  # sound unbounded-wait, value-in-text
            return cur.fetchone()


def lock_for_a_while(conn, code):
    with conn:
        with conn.cursor() as cur:
            cur.execute("set local lock_timeout = '2s'")
            cur.execute("select code from budget where code = %s for update", (code,))  # sound unbounded-wait
            return cur.fetchone()


def in_a_loop(conn, codes):
    with conn:
        with conn.cursor() as cur:
            for code in codes:
                cur.execute("delete from budget where code = %s", (code,))  # finds one-by-one
                if cur.rowcount != 1:
                    raise LookupError(code)


def all_at_once(conn, codes):
    with conn:
        with conn.cursor() as cur:
            cur.execute("delete from budget where code = any(%s)", (codes,))  # sound count-ignored, one-by-one
            return cur.rowcount


def unseen(conn, code):
    with conn:
        with conn.cursor() as cur:
            cur.execute("update budget set hours = 1 where code = %s", (code,))  # finds count-ignored
            print("updated", code)


def seen(conn, code):
    with conn:
        with conn.cursor() as cur:
            cur.execute("update budget set hours = 1 where code = %s", (code,))  # sound count-ignored
            print("updated" if cur.rowcount == 1 else "not there", code)


def returned(conn, code):
    with conn:
        with conn.cursor() as cur:
            cur.execute("update budget set hours = 1 where code = %s returning hours", (code,))  # sound count-ignored
            row = cur.fetchone()
            if row is None:
                raise LookupError(code)
            return row[0]


async def each_for_itself(pool, one, other):
    async with pool.acquire() as con:
        taken = await con.execute("update budget set hours = hours - 1 where code = $1", one)
        given = await con.execute("update budget set hours = hours + 1 where code = $1", other)  # finds apart
        return taken, given


async def in_one(pool, one, other):
    async with pool.acquire() as con, con.transaction():
        taken = await con.execute("update budget set hours = hours - 1 where code = $1", one)
        given = await con.execute("update budget set hours = hours + 1 where code = $1", other)  # sound apart
        return taken, given
