import psycopg
from psycopg_pool import ConnectionPool
import psycopg2
import asyncpg

pool = ConnectionPool("dbname=observatory")

# 1 sound
def one(code):
    with pool.connection() as conn:
        done = conn.execute("delete from telescope where code = %s", (code,))
        if done.rowcount != 1:
            raise KeyError(code)

# 2 count-ignored
def two(code):
    with pool.connection() as conn:
        conn.execute("delete from telescope where code = %s", (code,)) # finds count-ignored
    return "removed"

# 3 never-committed
def three(code):
    conn = psycopg2.connect("dbname=observatory")
    cur = conn.cursor()
    cur.execute("delete from telescope where code = %s", (code,)) # finds never-committed, session-kept
    if cur.rowcount != 1:
        raise KeyError(code)
    cur.close()
    conn.close()

# 4 asyncpg: parameter-count
async def four(conn, code):
    status = await conn.execute("update telescope set name = $1 where code = $2", code) # finds parameter-count
    if status != "UPDATE 1":
        raise KeyError(code)

# 5 sound asyncpg transaction
async def five(conn, a, b):
    async with conn.transaction():
        for status in [
            await conn.execute("update telescope set name = 'a' where code = $1", a),
            await conn.execute("update telescope set name = 'b' where code = $1", b),
        ]:
            if status != "UPDATE 1":
                raise KeyError

# 6 list built
def six(cur, filters):
    parts = []
    for name, value in filters.items():
        parts.append(f"{name} = '{value}'") # finds value-in-text, value-in-text
    cur.execute("select code from programme where " + " and ".join(parts))
    return cur.fetchall()

# 7 placeholders built, sound
def seven(cur, ids):
    marks = ", ".join(["%s"] * len(ids))
    cur.execute(f"select code from programme where id in ({marks})", ids)
    return cur.fetchall()

# 8 str.format named
def eight(cur, code):
    q = "select title from programme where code = '{code}'".format(code=code) # finds value-in-text
    cur.execute(q)
    return cur.fetchone()

# 9 percent dict
def nine(cur, code):
    cur.execute("select title from programme where code = '%(code)s'" % {"code": code}) # finds value-in-text

# 10 missing dictionary member
def ten(cur, code):
    cur.execute("select title from programme where code = %(code)s and semester = %(semester)s", {"code": code}) # finds parameter-count

# 11 while loop cursor
def eleven(conn, codes):
    cur = conn.cursor()
    for code in codes:
        cur.execute("insert into telescope (code, name, aperture_m) values (%s, %s, 1.0)", (code, code)) # finds one-by-one
    conn.commit()

# 12 commit between
def twelve(conn, a, b):
    cur = conn.cursor()
    cur.execute("update telescope set name = 'a' where code = %s", (a,))
    if cur.rowcount != 1: raise KeyError(a)
    conn.commit()
    cur.execute("update telescope set name = 'b' where code = %s", (b,)) # finds apart
    if cur.rowcount != 1: raise KeyError(b)
    conn.commit()

# 13 only the first is looked at
def thirteen(conn, a, b):
    cur = conn.cursor()
    cur.execute("update telescope set name = 'a' where code = %s", (a,))
    if cur.rowcount != 1: raise KeyError(a)
    cur.execute("update telescope set name = 'b' where code = %s", (b,)) # finds count-ignored
    conn.commit()

# 14 lock, set in session: sound
def fourteen(conn, code):
    with conn.cursor() as cur:
        cur.execute("select id from programme where code = %s for update skip locked", (code,))
        return cur.fetchone()

# 15 pool getconn never put
def fifteen(p, code):
    conn = p.getconn()
    cur = conn.cursor()
    cur.execute("select id from programme where code = %s", (code,)) # finds session-kept
    return cur.fetchone()

# 16 swallowed error keeps the transaction
def sixteen(conn, a):
    try:
        conn.execute("delete from telescope where code = %s", (a,)) # finds count-ignored
        conn.commit()
    except Exception:
        pass

if __name__ == "__main__":
    conn = psycopg2.connect("")
    cur = conn.cursor()
    cur.execute("update telescope set name = 'z' where code = 'HF1'") # finds count-ignored, never-committed
    print("done")
