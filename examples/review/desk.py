"""Data access as it is written every day; the review says what is wrong with it."""


def move_hours(conn, giver, taker, hours):
    cur = conn.cursor()
    cur.execute(f"update programme set hours_left = hours_left - {hours} where code = '{giver}'")
    conn.commit()
    cur.execute("update programme set hours_left = hours_left + %s where code = %s", (hours, taker))
    conn.commit()
    print("moved")


def retire(conn, family_name):
    cur = conn.cursor()
    cur.execute("update observer set active = false where family_name = %s", (family_name))
    return cur.rowcount


def without_contact(conn):
    cur = conn.cursor()
    cur.execute("select code, titel from programme where contact_email = null")
    return cur.fetchall()
