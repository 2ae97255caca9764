package dripledger.demo.decision;

import java.io.IOException;
import java.io.InputStream;
import java.io.UncheckedIOException;
import java.math.BigDecimal;
import java.nio.charset.StandardCharsets;
import java.time.LocalDate;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;

/**
 * Rows and changes of the decision-support workload, as SQL that any database takes. What the rows
 * hold is drawn as the TPC-H specification says, from fewer names, so that small data has something
 * for each query.
 */
public final class DecisionSupport {
  private static final String[] REGIONS = {"AFRICA", "AMERICA", "ASIA", "EUROPE", "MIDDLE EAST"};
  private static final String[] NATIONS = {
    "ALGERIA 0",
    "ARGENTINA 1",
    "BRAZIL 1",
    "CANADA 1",
    "EGYPT 4",
    "ETHIOPIA 0",
    "FRANCE 3",
    "GERMANY 3",
    "INDIA 2",
    "INDONESIA 2",
    "IRAN 4",
    "IRAQ 4",
    "JAPAN 2",
    "JORDAN 4",
    "KENYA 0",
    "MOROCCO 0",
    "MOZAMBIQUE 0",
    "PERU 1",
    "CHINA 2",
    "ROMANIA 3",
    "SAUDI ARABIA 4",
    "VIETNAM 2",
    "RUSSIA 3",
    "UNITED KINGDOM 3",
    "UNITED STATES 1"
  };
  private static final int[] FREQUENT = {2, 3, 6, 7, 8, 20};
  private static final String[] COLOURS = {
    "forest", "green", "almond", "azure", "coral", "ivory", "linen", "navy", "plum", "rose"
  };
  private static final String[] SIZES = {"ECONOMY", "MEDIUM", "PROMO"};
  private static final String[] FINISHES = {"ANODIZED", "POLISHED", "PLATED"};
  private static final String[] METALS = {"BRASS", "STEEL", "TIN"};
  private static final String[] BRANDS = {"12", "23", "34", "45"};
  private static final String[] CONTAINERS = {"SM CASE", "MED BOX", "LG BOX"};
  private static final int[] PART_SIZES = {5, 15, 19, 45};
  private static final String[] SEGMENTS = {"AUTOMOBILE", "BUILDING", "FURNITURE"};
  private static final String[] PRIORITIES = {
    "1-URGENT", "2-HIGH", "3-MEDIUM", "4-NOT SPECIFIED", "5-LOW"
  };
  private static final String[] MODES = {"AIR", "MAIL", "REG AIR", "SHIP", "TRUCK"};
  private static final String[] INSTRUCTIONS = {"DELIVER IN PERSON", "COLLECT COD", "NONE"};
  private static final LocalDate FIRST = LocalDate.of(1992, 1, 1);
  private static final LocalDate CURRENT = LocalDate.of(1995, 6, 17);
  private static final int DAYS = 2405;

  private final Random random;
  private final int orders;
  private final int customers;
  private final int parts;
  private final int suppliers;
  private int firstOrder = 1;
  private int nextOrder;

  /**
   * @param orders how many there are at first; lines are four times as many
   */
  public DecisionSupport(int orders, long seed) {
    this.random = new Random(seed);
    this.orders = orders;
    this.customers = Math.max(30, orders / 10);
    this.parts = Math.max(60, orders * 2 / 15);
    this.suppliers = Math.max(16, orders / 150);
    this.nextOrder = orders + 1;
  }

  /** The tables' definitions. */
  public static String tables() {
    return resource("tables.sql");
  }

  /** The 22 queries by name, in their order. */
  public static Map<String, String> queries() {
    Map<String, String> queries = new LinkedHashMap<>();
    for (String part : resource("queries.sql").split("-- ")) {
      if (!part.isBlank()) {
        int line = part.indexOf('\n');
        queries.put(part.substring(0, line).strip(), part.substring(line).strip());
      }
    }
    return queries;
  }

  /** Statements that fill the tables. */
  public List<String> load() {
    List<String> out = new ArrayList<>();
    List<String> rows = new ArrayList<>();
    for (int i = 0; i < REGIONS.length; i++) {
      rows.add(row(i, REGIONS[i]));
    }
    insert(out, "region", rows);
    for (int i = 0; i < NATIONS.length; i++) {
      int space = NATIONS[i].lastIndexOf(' ');
      rows.add(
          row(i, NATIONS[i].substring(0, space), NATIONS[i].charAt(NATIONS[i].length() - 1) - '0'));
    }
    insert(out, "nation", rows);
    for (int i = 1; i <= suppliers; i++) {
      int nation = i <= FREQUENT.length ? FREQUENT[i - 1] : nation();
      String comment = random.nextInt(6) == 0 ? "Customer sees Complaints" : "quiet";
      rows.add(
          row(i, "Supplier#" + i, "street " + i, nation, phone(nation), money(11_000), comment));
    }
    insert(out, "supplier", rows);
    for (int i = 1; i <= parts; i++) {
      rows.add(
          row(
              i,
              any(COLOURS) + " " + any(COLOURS),
              "Manufacturer#" + (1 + random.nextInt(5)),
              "Brand#" + any(BRANDS),
              any(SIZES) + " " + any(FINISHES) + " " + any(METALS),
              PART_SIZES[random.nextInt(PART_SIZES.length)],
              any(CONTAINERS)));
    }
    insert(out, "part", rows);
    for (int i = 1; i <= parts; i++) {
      for (int j = 0; j < 4; j++) {
        rows.add(row(i, supplierOf(i, j), 1 + random.nextInt(999), money(1000)));
      }
    }
    insert(out, "partsupp", rows);
    for (int i = 1; i <= customers; i++) {
      int nation = nation();
      rows.add(
          row(
              i,
              "Customer#" + i,
              "road " + i,
              nation,
              phone(nation),
              money(11_000),
              any(SEGMENTS),
              "note " + i));
    }
    insert(out, "customer", rows);
    List<String> lines = new ArrayList<>();
    for (int i = 1; i <= orders; i++) {
      order(i, rows, lines);
    }
    insert(out, "orders", rows);
    insert(out, "lineitem", lines);
    return out;
  }

  /**
   * One batch of changes: so many new orders, as many old ones gone, some rows of others revised.
   */
  public List<String> changes(int number) {
    List<String> out = new ArrayList<>();
    for (String table : List.of("lineitem WHERE l_orderkey", "orders WHERE o_orderkey")) {
      out.add(
          "DELETE FROM " + table + " BETWEEN " + firstOrder + " AND " + (firstOrder + number - 1));
    }
    firstOrder += number;
    List<String> rows = new ArrayList<>();
    List<String> lines = new ArrayList<>();
    for (int i = 0; i < number; i++) {
      order(nextOrder++, rows, lines);
    }
    insert(out, "orders", rows);
    insert(out, "lineitem", lines);
    return out;
  }

  /** Changes of single rows of every table that has a name or a number to revise. */
  public List<String> revisions() {
    int order = firstOrder + random.nextInt(nextOrder - firstOrder);
    int part = 1 + random.nextInt(parts);
    int supplier = 1 + random.nextInt(suppliers);
    int customer = 1 + random.nextInt(customers);
    int nation = nation();
    return List.of(
        "UPDATE lineitem SET l_receiptdate = l_receiptdate + INTERVAL '9' DAY, l_quantity = "
            + (1 + random.nextInt(50))
            + " WHERE l_orderkey = "
            + order,
        "UPDATE orders SET o_custkey = " + custom() + " WHERE o_orderkey = " + order,
        "UPDATE partsupp SET ps_availqty = " + random.nextInt(999) + " WHERE ps_partkey = " + part,
        "UPDATE part SET p_name = '" + any(COLOURS) + " green' WHERE p_partkey = " + part,
        "UPDATE supplier SET s_nationkey = " + nation + " WHERE s_suppkey = " + supplier,
        "UPDATE customer SET c_acctbal = " + money(11_000) + " WHERE c_custkey = " + customer);
  }

  private void order(int key, List<String> rows, List<String> lines) {
    LocalDate day = FIRST.plusDays(random.nextInt(DAYS));
    long total = 0;
    int number = 1 + random.nextInt(7);
    boolean open = false;
    for (int line = 1; line <= number; line++) {
      int part = 1 + random.nextInt(parts);
      int quantity = 1 + random.nextInt(50);
      long cents = quantity * (90_000L + part % 1000 * 100);
      total += cents;
      LocalDate shipped = day.plusDays(1 + random.nextInt(121));
      LocalDate received = shipped.plusDays(1 + random.nextInt(30));
      open |= shipped.isAfter(CURRENT);
      lines.add(
          row(
              key,
              part,
              supplierOf(part, random.nextInt(4)),
              line,
              quantity,
              cents(cents),
              cents(random.nextInt(11)),
              cents(random.nextInt(9)),
              received.isAfter(CURRENT) ? "N" : random.nextBoolean() ? "R" : "A",
              shipped.isAfter(CURRENT) ? "O" : "F",
              shipped,
              day.plusDays(30 + random.nextInt(61)),
              received,
              any(INSTRUCTIONS),
              any(MODES)));
    }
    rows.add(
        row(
            key,
            custom(),
            open ? "O" : "F",
            cents(total),
            day,
            any(PRIORITIES),
            0,
            random.nextInt(8) == 0 ? "special kind of requests" : "plain"));
  }

  /** A customer who orders: a third never does. */
  private int custom() {
    int customer = 1 + random.nextInt(customers);
    return customer % 3 == 0 ? customer - 1 : customer;
  }

  private int supplierOf(int part, int j) {
    return (part + j * (suppliers / 4) + (part - 1) / suppliers) % suppliers + 1;
  }

  private int nation() {
    return random.nextInt(8) == 0
        ? random.nextInt(NATIONS.length)
        : FREQUENT[random.nextInt(FREQUENT.length)];
  }

  private String phone(int nation) {
    return (10 + nation) + "-" + (100 + random.nextInt(900));
  }

  private Number money(int most) {
    return cents(random.nextInt(most * 100) - (most > 1000 ? 100_000 : 0));
  }

  private static Number cents(long cents) {
    return BigDecimal.valueOf(cents, 2);
  }

  private String any(String[] from) {
    return from[random.nextInt(from.length)];
  }

  private static String row(Object... values) {
    StringBuilder out = new StringBuilder("(");
    for (Object value : values) {
      out.append(out.length() == 1 ? "" : ", ");
      if (value instanceof Number) {
        out.append(value);
      } else {
        out.append(value instanceof LocalDate ? "DATE '" : "'").append(value).append('\'');
      }
    }
    return out.append(')').toString();
  }

  private static void insert(List<String> out, String table, List<String> rows) {
    for (int i = 0; i < rows.size(); i += 1000) {
      List<String> some = rows.subList(i, Math.min(rows.size(), i + 1000));
      out.add("INSERT INTO " + table + " VALUES " + String.join(", ", some));
    }
    rows.clear();
  }

  private static String resource(String name) {
    try (InputStream in = DecisionSupport.class.getResourceAsStream("/decision/" + name)) {
      return new String(in.readAllBytes(), StandardCharsets.UTF_8);
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
  }
}
