// The driver tedious against a stand-in: PORT USER PASSWORD.
const { Connection, Request, TYPES } = require('tedious');
const [port, user, password] = process.argv.slice(2);
let failed = 0;

function check(what, found, wanted) {
  const good = JSON.stringify(found) === JSON.stringify(wanted);
  console.log((good ? 'held   ' : 'BROKEN ') + what + (good ? '' : `: ${JSON.stringify(found)} instead of ${JSON.stringify(wanted)}`));
  failed += good ? 0 : 1;
}

function connect(secret) {
  const options = { port: Number(port), database: 'harbour', encrypt: false, trustServerCertificate: true, rowCollectionOnRequestCompletion: true, useColumnNames: true, useUTC: true };
  const connection = new Connection({ server: '127.0.0.1', authentication: { type: 'default', options: { userName: user, password: secret } }, options });
  return new Promise((resolve) => {
    connection.connect((error) => resolve(error ? { error } : { connection }));
  });
}

function ask(connection, text, parameters = [], how = 'execSql') {
  return new Promise((resolve) => {
    const request = new Request(text, (error, count, rows) => {
      resolve({ number: error && error.number, count, rows: (rows || []).map((row) => Object.fromEntries(Object.entries(row).map(([name, cell]) => [name, cell.value]))) });
    });
    for (const [name, type, value, options] of parameters) request.addParameter(name, type, value, options);
    connection[how](request);
  });
}

const transaction = (connection, how) => new Promise((resolve, reject) => connection[how]((error) => (error ? reject(error) : resolve())));

(async () => {
  const refused = await connect('wrong');
  check('a wrong password is refused', refused.error && refused.error.code, 'ELOGIN');
  const { connection, error } = await connect(password);
  if (error) throw error;
  const heard = [];
  connection.on('infoMessage', (message) => heard.push(message.message));
  await ask(connection, "if object_id('dbo.driven') is not null drop table driven", [], 'execSqlBatch');
  await ask(connection, 'create table driven (id int primary key, name nvarchar(40), amount decimal(12,2), seen datetime2(3), mark uniqueidentifier, raw varbinary(max), yes bit)', [], 'execSqlBatch');
  const seen = new Date('2030-01-02T03:04:05.678Z');
  const stored = await ask(connection, 'insert into driven values (@id, @name, @amount, @seen, @mark, @raw, @yes)', [
    ['id', TYPES.Int, 1], ['name', TYPES.NVarChar, 'Öre 港'], ['amount', TYPES.Decimal, 1234.5, { precision: 12, scale: 2 }], ['seen', TYPES.DateTime2, seen, { scale: 3 }],
    ['mark', TYPES.UniqueIdentifier, '6F9619FF-8B86-D011-B42D-00C04FC964FF'], ['raw', TYPES.VarBinary, Buffer.from([0, 255])], ['yes', TYPES.Bit, true],
  ]);
  check('a row is stored', stored.count, 1);
  const { rows } = await ask(connection, 'select * from driven where id = @id', [['id', TYPES.Int, 1]]);
  check('every value comes back', rows, [{ id: 1, name: 'Öre 港', amount: 1234.5, seen, mark: '6F9619FF-8B86-D011-B42D-00C04FC964FF', raw: Buffer.from([0, 255]), yes: true }]);
  for (const [text, wanted] of [['select * from nowhere', 208], ['insert into driven (id) values (1)', 2627], ['select nobody from driven', 207], ['selec 1', 102]]) {
    check(`error ${wanted}`, (await ask(connection, text, [], 'execSqlBatch')).number, wanted);
  }
  await transaction(connection, 'beginTransaction');
  check('rows that were changed', (await ask(connection, "update driven set name = N'gone'")).count, 1);
  await transaction(connection, 'rollbackTransaction');
  check('a rollback takes it back', (await ask(connection, 'select name from driven')).rows[0].name, 'Öre 港');
  const several = await ask(connection, "declare @n int = 2; select @n as n; print 'heard'; select name as n from driven", [], 'execSqlBatch');
  check('several results', several.rows.map((row) => row.n), [2, 'Öre 港']);
  check('a message is heard', heard.includes('heard'), true);
  const prepared = new Request('select @n + 1 as next', () => {});
  prepared.addParameter('n', TYPES.Int);
  await new Promise((resolve) => { prepared.on('prepared', resolve); connection.prepare(prepared); });
  const next = await new Promise((resolve) => {
    prepared.on('row', (row) => resolve(row.next.value));
    connection.execute(prepared, { n: 41 });
  });
  check('a prepared statement', next, 42);
  await new Promise((resolve) => setTimeout(resolve, 100));
  await ask(connection, 'drop table driven', [], 'execSqlBatch');
  connection.close();
  process.exit(failed ? 1 : 0);
})().catch((error) => { console.error(error); process.exit(1); });
