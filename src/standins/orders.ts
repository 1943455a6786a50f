import pg from 'pg'
import { ordersLogin } from './plant'

/**
 * Works orders and recipes, in a database of their own beside Embrik's, with a user who may only read. What is in progress is
 * computed from the clock by a view: nobody needs to keep it going.
 */
export async function setUpOrders(adminUrl: string): Promise<{ database: string }> {
  const { user, password, database } = ordersLogin
  const admin = new pg.Client(adminUrl)
  await admin.connect()
  try {
    const has = async (text: string) => (await admin.query(text)).rowCount === 1
    if (!(await has(`select 1 from pg_roles where rolname = '${user}'`))) await admin.query(`create role ${user} login password '${password}'`)
    if (await has(`select 1 from pg_database where datname = '${database}'`)) return { database }
    await admin.query(`create database ${database}`)
  } finally {
    await admin.end()
  }
  const own = new pg.Client(adminUrl.replace(/\/[^/]*$/, `/${database}`))
  await own.connect()
  try {
    await own.query(statements)
  } finally {
    await own.end()
  }
  return { database }
}

const statements = `
create schema works;
create table works.recipe (product text primary key, firing_curve text not null, drying_hours int not null, top_temperature int not null);
insert into works.recipe values ('facing brick 240', 'FC-1050-B', 24, 1050), ('roof tile plain', 'FC-1020-A', 22, 1020), ('paver 200', 'FC-1120-C', 28, 1120);
create table works.works_order (order_no text primary key, line text not null, product text not null references works.recipe, quantity int not null,
  customer_region text not null, rank int not null);
insert into works.works_order
  select 'WO-' || (48100 + n), case n % 2 when 0 then 'kiln 1' else 'packing' end, (array['facing brick 240', 'roof tile plain', 'paver 200'])[1 + n % 3],
    4000 + 500 * (n % 7), (array['Norrel', 'Eastmarch', 'Holm Coast'])[1 + n % 3], n
  from generate_series(1, 24) n;
create view works.current_order as
  select w.line, w.order_no, w.product, w.quantity, (extract(epoch from now())::bigint / 2 % w.quantity)::int as done, r.firing_curve, r.top_temperature,
    w.customer_region, date_trunc('hour', now()) as started
  from works.works_order w join works.recipe r using (product)
  where w.rank in (select max(rank) from works.works_order where rank <= 2 + extract(hour from now())::int % 22 group by line);
grant usage on schema works to ${ordersLogin.user};
grant select on all tables in schema works to ${ordersLogin.user};
`
