import logging
import psycopg2
import psycopg2.extras
from psycopg2.pool import ThreadedConnectionPool

logger = logging.getLogger(__name__)
pool = ThreadedConnectionPool(1, 10, dsn="dbname=observatory")

UPDATE_NAME = """
    UPDATE telescope
       SET name = %(name)s
     WHERE code = %(code)s
"""

def update_name(conn, code, name):
    with conn.cursor() as cur:
        cur.execute(UPDATE_NAME, {"name": name, "code": code})
        updated = cur.rowcount
    conn.commit()
    return updated == 1

def update_name_blind(conn, code, name):
    with conn.cursor() as cur:
        cur.execute(UPDATE_NAME, {"name": name, "code": code}) # finds count-ignored
    conn.commit()
    logger.info("updated %s", code)

def update_name_missing(conn, code):
    with conn.cursor() as cur:
        cur.execute(UPDATE_NAME, {"code": code}) # finds parameter-count
        if cur.rowcount == 0:
            raise KeyError(code)
    conn.commit()

def search(cur, text):
    cur.execute("SELECT code FROM telescope WHERE name ILIKE '%" + text + "%'") # finds value-in-text
    return cur.fetchall()

def search_fmt(cur, text, limit=10):
    query = f"SELECT code FROM telescope WHERE name = '{text}' LIMIT {int(limit)}" # finds value-in-text
    cur.execute(query)
    return cur.fetchall()

def pooled(code):
    conn = pool.getconn()
    try:
        with conn:
            with conn.cursor() as cur:
                cur.execute("DELETE FROM telescope WHERE code = %s", (code,))
                if cur.rowcount != 1:
                    raise KeyError(code)
    finally:
        pool.putconn(conn)

def pooled_leak(code):
    conn = pool.getconn()
    cur = conn.cursor()
    cur.execute("SELECT name FROM telescope WHERE code = %s", (code,)) # finds session-kept
    row = cur.fetchone()
    pool.putconn(conn)
    return row

def bulk(conn, rows):
    with conn.cursor() as cur:
        psycopg2.extras.execute_batch(cur, "UPDATE exposure SET quality = %s WHERE id = %s", rows)
    conn.commit()

def bulk_loop(conn, rows):
    with conn.cursor() as cur:
        for row in rows:
            cur.execute("UPDATE exposure SET quality = %s WHERE id = %s", (row["q"], row["id"])) # finds one-by-one
            if cur.rowcount != 1:
                logger.warning("no exposure %s", row["id"])
    conn.commit()

def many(conn, rows):
    with conn.cursor() as cur:
        cur.executemany("INSERT INTO exposure (id, quality) VALUES (%s, %s)", rows) # finds key-assigned
    conn.commit()

def tuple_missing(cur, code):
    cur.execute("SELECT name FROM telescope WHERE code = %s", (code)) # finds parameter-count
    return cur.fetchone()

def in_list(cur, codes):
    cur.execute("SELECT name FROM telescope WHERE code IN %s", (tuple(codes),))
    return cur.fetchall()

def in_list_joined(cur, codes):
    cur.execute("SELECT name FROM telescope WHERE code IN ('%s')" % "','".join(codes)) # finds value-in-text
    return cur.fetchall()

def transfer(conn, giver, taker, hours):
    cur = conn.cursor()
    try:
        cur.execute("UPDATE budget SET hours = hours - %s WHERE code = %s", (hours, giver))
        if cur.rowcount != 1:
            raise KeyError(giver)
        cur.execute("UPDATE budget SET hours = hours + %s WHERE code = %s", (hours, taker))
        if cur.rowcount != 1:
            raise KeyError(taker)
        conn.commit()
    except Exception:
        conn.rollback()
        raise

def transfer_apart(conn, giver, taker, hours):
    cur = conn.cursor()
    cur.execute("UPDATE budget SET hours = hours - %s WHERE code = %s", (hours, giver))
    assert cur.rowcount == 1
    conn.commit()
    cur.execute("UPDATE budget SET hours = hours + %s WHERE code = %s", (hours, taker)) # finds apart
    assert cur.rowcount == 1
    conn.commit()

def no_commit(code):
    connection = psycopg2.connect("dbname=observatory")
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM telescope WHERE code = %s", [code]) # finds never-committed, session-kept
        deleted = cursor.rowcount
    connection.close()
    return deleted

def lock(cur, code):
    cur.execute("SET LOCAL lock_timeout = '2s'")
    cur.execute("SELECT id FROM programme WHERE code = %s FOR UPDATE", (code,))
    return cur.fetchone()

def save(conn, programme):
    with conn.cursor() as cur:
        cur.execute("UPDATE programme SET title = %s, priority = %s WHERE id = %s", (programme.title, programme.priority, programme.id)) # finds unguarded-save
        if cur.rowcount == 0:
            raise LookupError(programme.id)
    conn.commit()

def save_guarded(conn, programme):
    with conn.cursor() as cur:
        cur.execute(
            "UPDATE programme SET title = %s, row_version = row_version + 1 WHERE id = %s AND row_version = %s RETURNING row_version",
            (programme.title, programme.id, programme.row_version),
        )
        row = cur.fetchone()
        if row is None:
            raise RuntimeError("changed")
    conn.commit()
    return row[0]

def not_in(cur):
    cur.execute("SELECT code FROM programme WHERE lead_id NOT IN (SELECT assigned_to FROM block)") # finds null-comparison
    return cur.fetchall()

def text_transaction(cur):
    cur.execute("BEGIN; UPDATE budget SET hours = 0 WHERE code = 'B-1'; COMMIT;") # finds count-ignored, transaction-inside
