import psycopg2
from contextlib import closing


def begin_in_text(conn, code):
    with conn.cursor() as cur:
        cur.execute("BEGIN; update budget set hours = 1 where code = %s; COMMIT;", (code,))  # finds transaction-inside
        if cur.rowcount != 1:
            raise LookupError(code)


def rollback_inside(conn):
    with conn.cursor() as cur:
        cur.execute("""
            start transaction;
            delete from budget where code = 'B-1';
            rollback
        """)  # finds transaction-inside, count-ignored at -4


def block_of_code(conn):
    with conn:
        with conn.cursor() as cur:
            cur.execute("do $$ begin perform 1; end $$")  # sound transaction-inside


def case_end(conn):
    with conn.cursor() as cur:
        cur.execute("select case when hours > 3 then 1 else 0 end from budget")  # sound transaction-inside
        return cur.fetchall()


def savepoint_of_driver(conn, code):
    with conn.transaction():
        with conn.cursor() as cur:
            cur.execute("delete from budget where code = %s", (code,))  # sound transaction-inside, never-committed, count-ignored
            if cur.rowcount == 0:
                raise LookupError(code)


def moves_apart(dsn, giver, taker):
    conn = psycopg2.connect(dsn)
    conn.autocommit = True
    try:
        cur = conn.cursor()
        cur.execute("update budget set hours = hours - 1 where code = %s", (giver,))
        if cur.rowcount != 1:
            raise LookupError(giver)
        cur.execute("update budget set hours = hours + 1 where code = %s", (taker,))  # finds apart
        if cur.rowcount != 1:
            raise LookupError(taker)
    finally:
        conn.close()


def moves_together(dsn, giver, taker):
    conn = psycopg2.connect(dsn)
    try:
        with conn:
            with conn.cursor() as cur:
                cur.execute("update budget set hours = hours - 1 where code = %s", (giver,))
                if cur.rowcount != 1:
                    raise LookupError(giver)
                cur.execute("update budget set hours = hours + 1 where code = %s", (taker,))  # sound apart, never-committed
                if cur.rowcount != 1:
                    raise LookupError(taker)
    finally:
        conn.close()


def commits_between(dsn, giver, taker):
    conn = psycopg2.connect(dsn)
    try:
        cur = conn.cursor()
        cur.execute("update budget set hours = hours - 1 where code = %s", (giver,))
        if cur.rowcount != 1:
            raise LookupError(giver)
        conn.commit()
        cur.execute("update budget set hours = hours + 1 where code = %s", (taker,))  # finds apart
        if cur.rowcount != 1:
            raise LookupError(taker)
        conn.commit()
    except Exception:
        conn.rollback()
        raise
    finally:
        conn.close()


def one_write_alone(dsn, code):
    conn = psycopg2.connect(dsn)
    conn.autocommit = True
    try:
        cur = conn.cursor()
        cur.execute("update budget set hours = 2 where code = %s", (code,))  # sound apart, never-committed, session-kept
        if cur.rowcount != 1:
            raise LookupError(code)
    finally:
        conn.close()


def reads_apart(dsn):
    conn = psycopg2.connect(dsn)
    conn.autocommit = True
    try:
        cur = conn.cursor()
        cur.execute("select code from budget")  # sound apart
        codes = cur.fetchall()
        cur.execute("select code from telescope")  # sound apart
        return codes, cur.fetchall()
    finally:
        conn.close()


def closed_by_helper(dsn, code):
    with closing(psycopg2.connect(dsn)) as conn:
        with conn, conn.cursor() as cur:
            cur.execute("select hours from budget where code = %s", (code,))  # sound session-kept
            return cur.fetchone()


def never_closed(dsn, code):
    conn = psycopg2.connect(dsn)
    cur = conn.cursor()
    cur.execute("select hours from budget where code = %s", (code,))  # finds session-kept
    return cur.fetchone()


def closed_on_success_only(dsn, code):
    conn = psycopg2.connect(dsn)
    cur = conn.cursor()
    cur.execute("select hours from budget where code = %s", (code,))  # finds session-kept
    row = cur.fetchone()
    conn.close()
    return row


def overwrites_title(conn, code, title):
    with conn:
        with conn.cursor() as cur:
            cur.execute("select title from programme where code = %s", (code,))
            row = cur.fetchone()
            if row is None:
                raise LookupError(code)
            cur.execute("update programme set title = %s where code = %s", (row[0] + title, code))  # finds unguarded-save
            if cur.rowcount != 1:
                raise LookupError(code)


def overwrites_guarded(conn, code, title, version):
    with conn:
        with conn.cursor() as cur:
            cur.execute(
                "update programme set title = %s, row_version = row_version + 1 where code = %s and row_version = %s",  # sound unguarded-save
                (title, code, version),
            )
            if cur.rowcount != 1:
                raise LookupError(code)


def overwrites_locked(conn, code, title):
    with conn:
        with conn.cursor() as cur:
            cur.execute("set local lock_timeout = '1s'")
            cur.execute("select title from programme where code = %s for update", (code,))
            row = cur.fetchone()
            if row is None:
                raise LookupError(code)
            cur.execute("update programme set title = %s, row_version = row_version + 1 where code = %s", (row[0] + title, code))  # sound unguarded-save
            if cur.rowcount != 1:
                raise LookupError(code)


def counts_up(conn, code):
    with conn:
        with conn.cursor() as cur:
            cur.execute("update programme set hours_left = hours_left - 1 where code = %s", (code,))  # sound unguarded-save
            if cur.rowcount != 1:
                raise LookupError(code)


def batch_of_rows(conn, rows):
    with conn:
        with conn.cursor() as cur:
            cur.executemany("insert into budget (code, hours) values (%s, %s)", rows)  # sound one-by-one


def loop_over_result(conn):
    with conn.cursor() as cur:
        cur.execute("select code from budget")  # sound one-by-one
        for (code,) in cur:
            print(code)


def tries_again(conn, code):
    for attempt in range(3):
        try:
            with conn:
                with conn.cursor() as cur:
                    cur.execute("update budget set hours = hours + 1 where code = %s", (code,))  # sound one-by-one
                    if cur.rowcount != 1:
                        raise LookupError(code)
                    return
        except psycopg2.OperationalError:
            continue
