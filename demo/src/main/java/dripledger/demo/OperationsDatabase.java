package dripledger.demo;

import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.PreparedStatement;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.List;
import java.util.Random;

/**
 * The hub's operations database: parcels, gates and surcharges, and how they change over the day.
 * Seeded. Not thread-safe.
 */
public final class OperationsDatabase implements AutoCloseable {
  /** The database made for the hub in its cluster. */
  public static final String DATABASE = "hub";

  private static final List<String> SERVICES = List.of("next_day", "standard", "bulky");
  private static final List<String> STATUSES =
      List.of("announced", "in hub", "on van", "delivered");
  private static final int FIRST_PARCEL = 812_000;
  private static final int PARCELS = 4_000;

  private final Connection connection;
  private final Random random;

  public OperationsDatabase(String url, String password, long seed) throws SQLException {
    connection = DriverManager.getConnection(url, PostgresCluster.USER, password);
    random = new Random(seed);
  }

  /** Makes the hub's database; argument: the JDBC URL of another database in its cluster. */
  public static void main(String[] args) throws SQLException {
    create(args[0], System.getenv("DRIP_OPERATIONS_PASSWORD"));
  }

  /** Makes the database in its cluster if it is not there. */
  public static void create(String url, String password) throws SQLException {
    try (Connection c = DriverManager.getConnection(url, PostgresCluster.USER, password);
        Statement s = c.createStatement();
        var there = s.executeQuery("SELECT 1 FROM pg_database WHERE datname = 'hub'")) {
      if (!there.next()) {
        try (Statement create = c.createStatement()) {
          create.execute("CREATE DATABASE hub");
        }
      }
    }
  }

  /** Makes and fills the tables if they are not there. */
  public void fill() throws SQLException {
    try (Statement s = connection.createStatement()) {
      s.execute(
          """
          CREATE TABLE IF NOT EXISTS parcel (
            parcel_id bigint PRIMARY KEY, service text NOT NULL, area text NOT NULL,
            declared_grams integer NOT NULL, status text NOT NULL);
          CREATE TABLE IF NOT EXISTS gate (
            gate text PRIMARY KEY, hall text NOT NULL, capacity_per_minute integer NOT NULL);
          CREATE TABLE IF NOT EXISTS surcharge (
            service text PRIMARY KEY, from_grams integer NOT NULL, cents_per_kg numeric(8, 2) NOT NULL)
          """);
      try (var r = s.executeQuery("SELECT count(*) FROM parcel")) {
        r.next();
        if (r.getLong(1) > 0) {
          return;
        }
      }
    }
    connection.setAutoCommit(false);
    for (int i = 0; i < PARCELS; i++) {
      insertParcel(FIRST_PARCEL + i);
    }
    for (int g = 1; g <= ScanGenerator.GATES; g++) {
      String hall = g < 9 ? "North" : g < 17 ? "Middle" : "South";
      update(
          "INSERT INTO gate VALUES (?, ?, ?)",
          String.format("G%02d", g),
          hall,
          40 + g * 7 % 5 * 20);
    }
    for (String service : SERVICES) {
      update(
          "INSERT INTO surcharge VALUES (?, ?, ?)",
          service,
          service.equals("bulky") ? 10_000 : 2_000,
          new java.math.BigDecimal(service.equals("next_day") ? "85.00" : "40.00"));
    }
    connection.commit();
    connection.setAutoCommit(true);
  }

  private void insertParcel(long id) throws SQLException {
    update(
        "INSERT INTO parcel VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING",
        id,
        SERVICES.get(random.nextInt(10) < 6 ? 1 : random.nextInt(3)),
        "QH-" + "NESW".charAt(random.nextInt(4)) + (1 + random.nextInt(6)),
        120 + (int) Math.abs(random.nextGaussian() * 1500),
        STATUSES.get(random.nextInt(2)));
  }

  private void update(String sql, Object... values) throws SQLException {
    try (PreparedStatement s = connection.prepareStatement(sql)) {
      for (int i = 0; i < values.length; i++) {
        s.setObject(i + 1, values[i]);
      }
      s.executeUpdate();
    }
  }

  /** One transaction of the day's work: some parcels move on, now and then a price changes. */
  public void work() throws SQLException {
    connection.setAutoCommit(false);
    try {
      for (int i = 0; i < 5; i++) {
        long parcel = FIRST_PARCEL + (long) random.nextInt(PARCELS);
        int what = random.nextInt(20);
        if (what == 0) {
          update("DELETE FROM parcel WHERE parcel_id = ?", parcel);
        } else if (what == 1) {
          insertParcel(parcel);
        } else {
          update(
              "UPDATE parcel SET status = ? WHERE parcel_id = ?",
              STATUSES.get(random.nextInt(STATUSES.size())),
              parcel);
        }
      }
      if (random.nextInt(60) == 0) {
        update(
            "UPDATE surcharge SET cents_per_kg = cents_per_kg + ? WHERE service = ?",
            new java.math.BigDecimal(random.nextInt(21) - 10).movePointLeft(1),
            SERVICES.get(random.nextInt(3)));
      }
      connection.commit();
    } catch (SQLException e) {
      connection.rollback();
      throw e;
    } finally {
      connection.setAutoCommit(true);
    }
  }

  @Override
  public void close() throws SQLException {
    connection.close();
  }
}
