CREATE TABLE region (r_regionkey INTEGER PRIMARY KEY, r_name VARCHAR NOT NULL);
CREATE TABLE nation (n_nationkey INTEGER PRIMARY KEY, n_name VARCHAR NOT NULL, n_regionkey INTEGER NOT NULL);
CREATE TABLE supplier (s_suppkey INTEGER PRIMARY KEY, s_name VARCHAR NOT NULL, s_address VARCHAR NOT NULL,
  s_nationkey INTEGER NOT NULL, s_phone VARCHAR NOT NULL, s_acctbal DECIMAL(15, 2) NOT NULL, s_comment VARCHAR NOT NULL);
CREATE TABLE part (p_partkey INTEGER PRIMARY KEY, p_name VARCHAR NOT NULL, p_mfgr VARCHAR NOT NULL,
  p_brand VARCHAR NOT NULL, p_type VARCHAR NOT NULL, p_size INTEGER NOT NULL, p_container VARCHAR NOT NULL);
CREATE TABLE partsupp (ps_partkey INTEGER NOT NULL, ps_suppkey INTEGER NOT NULL, ps_availqty INTEGER NOT NULL,
  ps_supplycost DECIMAL(15, 2) NOT NULL, PRIMARY KEY (ps_partkey, ps_suppkey));
CREATE TABLE customer (c_custkey INTEGER PRIMARY KEY, c_name VARCHAR NOT NULL, c_address VARCHAR NOT NULL,
  c_nationkey INTEGER NOT NULL, c_phone VARCHAR NOT NULL, c_acctbal DECIMAL(15, 2) NOT NULL,
  c_mktsegment VARCHAR NOT NULL, c_comment VARCHAR NOT NULL);
CREATE TABLE orders (o_orderkey INTEGER PRIMARY KEY, o_custkey INTEGER NOT NULL, o_orderstatus VARCHAR NOT NULL,
  o_totalprice DECIMAL(15, 2) NOT NULL, o_orderdate DATE NOT NULL, o_orderpriority VARCHAR NOT NULL,
  o_shippriority INTEGER NOT NULL, o_comment VARCHAR NOT NULL);
CREATE TABLE lineitem (l_orderkey INTEGER NOT NULL, l_partkey INTEGER NOT NULL, l_suppkey INTEGER NOT NULL,
  l_linenumber INTEGER NOT NULL, l_quantity DECIMAL(15, 2) NOT NULL, l_extendedprice DECIMAL(15, 2) NOT NULL,
  l_discount DECIMAL(15, 2) NOT NULL, l_tax DECIMAL(15, 2) NOT NULL, l_returnflag VARCHAR NOT NULL,
  l_linestatus VARCHAR NOT NULL, l_shipdate DATE NOT NULL, l_commitdate DATE NOT NULL, l_receiptdate DATE NOT NULL,
  l_shipinstruct VARCHAR NOT NULL, l_shipmode VARCHAR NOT NULL, PRIMARY KEY (l_orderkey, l_linenumber));
