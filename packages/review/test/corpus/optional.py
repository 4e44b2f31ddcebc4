def by_seeing(conn, seeing=None):
    text = "update exposure set taken_at = now()"
    values = []
    if seeing is not None:
        text += " where quality > %s"  # finds every-row
        values.append(seeing)
    with conn, conn.cursor() as cur:
        cur.execute(text, values)
        return cur.rowcount


def by_choice(conn, name):
    with conn, conn.cursor() as cur:
        cur.execute("delete from exposure " + ("where quality > %s" if name else ""), (name,))  # finds every-row
        return cur.rowcount


def by_list(conn, name, late):
    conditions = ["1 = 1"]
    if name:
        conditions.append("quality > 'V'")  # finds every-row
    if late:
        conditions.append("quality > 9")
    with conn, conn.cursor() as cur:
        cur.execute("delete from exposure where {}".format(" and ".join(conditions)))
        return cur.rowcount


def or_else_ends(conn, name=None):
    text = "delete from exposure"
    if name is None:
        raise ValueError("which ones?")
    else:
        text += " where quality > %s"  # sound every-row
    with conn, conn.cursor() as cur:
        cur.execute(text, (name,))
        return cur.rowcount
