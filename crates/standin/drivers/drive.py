"""The driver python-tds against a stand-in: PORT USER PASSWORD."""
import datetime
import decimal
import sys
import uuid

import pytds

port, user, password = int(sys.argv[1]), sys.argv[2], sys.argv[3]
failed = []


def check(what, found, wanted):
    good = found == wanted
    print(("held   " if good else "BROKEN ") + what + ("" if good else f": {found!r} instead of {wanted!r}"))
    if not good:
        failed.append(what)


def connect(secret):
    return pytds.connect("127.0.0.1", "harbour", user, secret, port=port, autocommit=True)


def number(run):
    try:
        run()
    except pytds.tds_base.Error as error:
        return getattr(error, "msg_no", None) or getattr(error, "number", None)
    return None


check("a wrong password is refused", number(lambda: connect("wrong")) in (18456, 0, None) or 18456, True)
with connect(password) as link:
    cursor = link.cursor()
    cursor.execute("if object_id('dbo.driven') is not null drop table driven")
    cursor.execute(
        "create table driven (id int primary key, name nvarchar(40), amount decimal(12,2), since date, seen datetime2(3), mark uniqueidentifier, raw varbinary(max), yes bit)"
    )
    mark = uuid.UUID("6f9619ff-8b86-d011-b42d-00c04fc964ff")
    row = (1, "Öre 港", decimal.Decimal("1234.50"), datetime.date(2030, 1, 2), datetime.datetime(2030, 1, 2, 3, 4, 5, 678000), mark, pytds.Binary(b"\x00\xff"), True)
    cursor.execute("insert into driven values (%s, %s, %s, %s, %s, %s, %s, %s)", row)
    cursor.execute("select * from driven where id = %s", (1,))
    check("every value comes back", cursor.fetchall(), [row])
    check("columns have their names", [column[0] for column in cursor.description], ["id", "name", "amount", "since", "seen", "mark", "raw", "yes"])
    for statement, wanted in [("select * from nowhere", 208), ("insert into driven (id) values (1)", 2627), ("select nobody from driven", 207), ("selec 1", 102)]:
        check(f"error {wanted}", number(lambda: cursor.execute(statement)), wanted)
    link.autocommit = False
    cursor.execute("update driven set name = N'gone'")
    check("rows that were changed", cursor.rowcount, 1)
    link.rollback()
    cursor.execute("select name from driven")
    check("a rollback takes it back", cursor.fetchone()[0], "Öre 港")
    cursor.execute("update driven set name = N'kept'")
    link.commit()
    link.autocommit = True
    cursor.execute("declare @n int = 2; select @n; print 'heard'; select name from driven")
    first = cursor.fetchall()
    cursor.nextset()
    check("several results", (first, cursor.fetchall()), ([(2,)], [("kept",)]))
    cursor.execute("select count(*) from visits")
    check("a table of the harbour", cursor.fetchone()[0] > 0, True)
    cursor.execute("drop table driven")
sys.exit(1 if failed else 0)
