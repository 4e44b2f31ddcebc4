async def dropped(con, seq):
    con.execute("delete from exposure where quality > $1", seq)  # finds not-awaited


async def dropped_beside_others(con, seq):
    await con.execute("delete from exposure where quality > 9")
    con.execute("delete from exposure where quality = 1")  # finds not-awaited
    con.execute("delete from exposure where quality = 2")  # finds not-awaited


async def awaited(con, seq):
    await con.execute("delete from exposure where quality > $1", seq)  # sound not-awaited


async def blocking(conn, seq):
    with conn, conn.cursor() as cur:
        cur.execute("delete from exposure where quality > %s", (seq,))  # sound not-awaited
