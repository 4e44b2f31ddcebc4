import psycopg2
from contextlib import closing

TABLE = "programme"
LOAD = "select code, title from programme where code = %s"


def load(conn, code):
    with conn.cursor() as cur:
        cur.execute(LOAD, (code,))
        return cur.fetchone()


def load_by_format(conn, code):
    cur = conn.cursor()
    cur.execute("select title from programme where code = '%s'" % code)  # finds value-in-text
    return cur.fetchone()


def load_by_f(conn, code):
    cur = conn.cursor()
    cur.execute(f"select title from programme where code = '{code}'")  # finds value-in-text
    return cur.fetchone()


def load_by_plus(conn, code):
    cur = conn.cursor()
    cur.execute("select title from programme where code = '" + code + "'")  # finds value-in-text
    return cur.fetchone()


def load_by_format_call(conn, code):
    cur = conn.cursor()
    cur.execute("select title from programme where code = '{}'".format(code))  # finds value-in-text
    return cur.fetchone()


def load_from_constant_table(conn, code):
    cur = conn.cursor()
    cur.execute("select title from " + TABLE + " where code = %s", (code,))
    return cur.fetchone()


def load_from_constant_f(conn, code):
    cur = conn.cursor()
    cur.execute(f"select title from {TABLE} where code = %s", [code])
    return cur.fetchone()


def load_no_tuple(conn, code):
    cur = conn.cursor()
    cur.execute("select title from programme where code = %s", (code))  # finds parameter-count
    return cur.fetchone()


def load_too_few(conn, code, semester):
    cur = conn.cursor()
    cur.execute("select title from programme where code = %s and semester = %s", (code,))  # finds parameter-count
    return cur.fetchone()


def load_too_many(conn, code, semester):
    cur = conn.cursor()
    cur.execute("select title from programme where code = %s", (code, semester))  # finds parameter-count
    return cur.fetchone()


def load_named(conn, code):
    cur = conn.cursor()
    cur.execute("select title from programme where code = %(code)s", {"code": code})
    return cur.fetchone()


def load_named_missing(conn, code):
    cur = conn.cursor()
    cur.execute("select title from programme where code = %(kode)s", {"code": code})  # finds parameter-count
    return cur.fetchone()


def load_like(conn, part):
    cur = conn.cursor()
    cur.execute("select title from programme where title like '%%' || %s || '%%'", (part,))
    return cur.fetchall()


def without_lead(conn):
    cur = conn.cursor()
    cur.execute("select code from programme where contact_email = null")  # finds null-comparison
    return cur.fetchall()


def with_email(conn):
    cur = conn.cursor()
    cur.execute("select code from programme where contact_email <> NULL")  # finds null-comparison
    return cur.fetchall()


def without_email(conn):
    cur = conn.cursor()
    cur.execute("select code from programme where contact_email is null")
    return cur.fetchall()


def clear_email(conn, code):
    cur = conn.cursor()
    cur.execute("update observer set email = null where id = %s", (code,))
    if cur.rowcount != 1:
        raise LookupError(code)


def raise_all(conn):
    cur = conn.cursor()
    cur.execute("update programme set priority = priority + 1")  # finds every-row
    return cur.rowcount


def raise_true(conn):
    cur = conn.cursor()
    cur.execute("update programme set priority = priority + 1 where 1 = 1")  # finds every-row
    return cur.rowcount


def remove_all(conn):
    cur = conn.cursor()
    cur.execute("delete from exposure")  # finds every-row
    return cur.rowcount


def remove_some(conn, limit):
    cur = conn.cursor()
    cur.execute("delete from exposure where quality < %s", (limit,))
    return cur.rowcount


def misspelled(conn, code):
    cur = conn.cursor()
    cur.execute("select titel from programme where code = %s", (code,))  # finds unknown-name
    return cur.fetchone()


def unknown_table(conn, code):
    cur = conn.cursor()
    cur.execute("select title from programm where code = %s", (code,))  # finds unknown-name
    return cur.fetchone()


def unknown_set(conn, code):
    cur = conn.cursor()
    cur.execute("update observer set nmae = %s where id = %s", ("x", code))  # finds unknown-name
    return cur.rowcount


def broken(conn, code):
    cur = conn.cursor()
    cur.execute("update observer st name = %s where id = %s", ("x", code))  # finds does-not-parse
    return cur.rowcount


def broken_list(conn):
    cur = conn.cursor()
    cur.execute("select code, from programme")  # finds does-not-parse
    return cur.fetchall()


def rename(conn, code, name):
    cur = conn.cursor()
    cur.execute("update observer set name = %s where id = %s", (name, code))  # finds count-ignored
    print("renamed")


def rename_counted(conn, code, name):
    cur = conn.cursor()
    cur.execute("update observer set name = %s where id = %s", (name, code))
    return cur.rowcount == 1


def rename_returning(conn, code, name):
    cur = conn.cursor()
    cur.execute("update observer set name = %s where id = %s returning id", (name, code))
    return cur.fetchone() is not None


def save_title(conn, code, title):
    cur = conn.cursor()
    cur.execute("update programme set title = %s where code = %s", (title, code))  # finds unguarded-save
    return cur.rowcount


def save_title_guarded(conn, code, title, version):
    cur = conn.cursor()
    cur.execute(
        "update programme set title = %s, row_version = row_version + 1 where code = %s and row_version = %s",
        (title, code, version),
    )
    return cur.rowcount


def take_hours(conn, code, hours):
    cur = conn.cursor()
    cur.execute("update programme set hours_left = hours_left - %s where code = %s", (hours, code))
    return cur.rowcount


def close_semester(conn, code):
    cur = conn.cursor()
    cur.execute("update programme set priority = 9 where code = %s", (code,))
    return cur.rowcount


def by_name(conn, name):
    cur = conn.cursor()
    cur.execute("update observer set role = 'lead' where name = %s", (name,))  # finds not-one-row
    return cur.rowcount


def by_badge(conn, badge):
    cur = conn.cursor()
    cur.execute("update observer set role = 'lead' where badge_no = %s", (badge,))
    return cur.rowcount


def renumber(conn, old, new):
    cur = conn.cursor()
    cur.execute("update observer set id = %s where id = %s", (new, old))  # finds key-assigned
    return cur.rowcount


def set_identity(conn):
    cur = conn.cursor()
    cur.execute("insert into exposure (id, block_id) values (%s, %s)", (1, 2))  # finds key-assigned
    return cur.rowcount


def cast_column(conn, number):
    cur = conn.cursor()
    cur.execute("select name from observer where id::text = %s", (number,))  # finds type-mismatch
    return cur.fetchone()


def cast_value(conn, number):
    cur = conn.cursor()
    cur.execute("select name from observer where id = %s::integer", (number,))
    return cur.fetchone()


def never(dsn, name):
    conn = psycopg2.connect(dsn)
    try:
        cur = conn.cursor()
        cur.execute("insert into telescope (code, name) values (%s, %s)", ("HF9", name))  # finds never-committed
    finally:
        conn.close()


def committed(dsn, name):
    conn = psycopg2.connect(dsn)
    try:
        cur = conn.cursor()
        cur.execute("insert into telescope (code, name) values (%s, %s)", ("HF9", name))
        conn.commit()
    finally:
        conn.close()


def managed(dsn, name):
    with psycopg2.connect(dsn) as conn, conn.cursor() as cur:
        cur.execute("insert into telescope (code, name) values (%s, %s)", ("HF9", name))


def transfer_apart(conn, giver, taker, hours):
    cur = conn.cursor()
    cur.execute("update budget set hours = hours - %s where code = %s", (hours, giver))
    assert cur.rowcount == 1
    conn.commit()
    cur.execute("update budget set hours = hours + %s where code = %s", (hours, taker))  # finds apart
    assert cur.rowcount == 1
    conn.commit()


def transfer(conn, giver, taker, hours):
    cur = conn.cursor()
    cur.execute("update budget set hours = hours - %s where code = %s", (hours, giver))
    assert cur.rowcount == 1
    cur.execute("update budget set hours = hours + %s where code = %s", (hours, taker))
    assert cur.rowcount == 1
    conn.commit()


def hold(conn, code):
    cur = conn.cursor()
    cur.execute("select code from telescope where code = %s for update", (code,))  # finds unbounded-wait
    return cur.fetchone()


def hold_nowait(conn, code):
    cur = conn.cursor()
    cur.execute("select code from telescope where code = %s for update nowait", (code,))
    return cur.fetchone()


def next_job(conn):
    cur = conn.cursor()
    cur.execute("select id from block where state = 'planned' limit 1 for update skip locked")
    return cur.fetchone()


def each(conn, codes):
    cur = conn.cursor()
    for code in codes:
        cur.execute("update telescope set name = upper(name) where code = %s", (code,))  # finds one-by-one
        assert cur.rowcount == 1


def at_once(conn, codes):
    cur = conn.cursor()
    cur.execute("update telescope set name = upper(name) where code = any(%s)", (codes,))
    return cur.rowcount


def kept(dsn, code):
    conn = psycopg2.connect(dsn)
    cur = conn.cursor()
    cur.execute("select name from telescope where code = %s", (code,))  # finds session-kept
    return cur.fetchone()


def handed_back(dsn, code):
    with closing(psycopg2.connect(dsn)) as conn:
        cur = conn.cursor()
        cur.execute("select name from telescope where code = %s", (code,))
        return cur.fetchone()


def both_in_one(conn, code):
    cur = conn.cursor()
    cur.execute("begin; delete from exposure where id = 1; commit")  # finds transaction-inside, count-ignored


def multi_line(conn, state):
    cur = conn.cursor()
    cur.execute(
        """
        select b.id, p.code
        from block b
        join programme p on p.id = b.programme_id
        where b.state = %s
          and p.contact_email = null
        """,  # finds null-comparison at -1
        (state,),
    )
    return cur.fetchall()


def accepted(conn):
    cur = conn.cursor()
    # ledgerman: accept every-row because the table is a cache
    cur.execute("delete from exposure")  # accepts every-row
    return cur.rowcount


def built_up(conn, state, night):
    cur = conn.cursor()
    sql = "select id from block where state = %s"
    args = [state]
    if night:
        sql += " and night = %s"
        args.append(night)
    cur.execute(sql, args)
    return cur.fetchall()


def built_badly(conn, state):
    cur = conn.cursor()
    sql = "select id from block where state = '"
    sql += state
    sql += "'"
    cur.execute(sql)  # finds value-in-text at -2
    return cur.fetchall()


def not_sql(log):
    log.info("update the set of flats")
    log.warning("select a telescope from the list")
