package dripledger.connectors.postgres;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.PostgresCluster;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.PreparedStatement;
import java.sql.SQLException;
import org.junit.jupiter.api.Test;

/** Errors of a real database, and what we say of them. */
class DatabaseErrorsTest {
  @Test
  void theDataIsLeftOut() throws Exception {
    try (PostgresCluster cluster = PostgresCluster.temporary();
        Connection c = DriverManager.getConnection(cluster.jdbcUrl("drip"), "drip", "loopback")) {
      c.createStatement().execute("CREATE TABLE wage (who text PRIMARY KEY, cents integer)");
      SQLException batch = null;
      try (PreparedStatement s = c.prepareStatement("INSERT INTO wage VALUES (?, 4711)")) {
        for (int i = 0; i < 2; i++) {
          s.setString(1, "Marguerite");
          s.addBatch();
        }
        s.executeBatch();
      } catch (SQLException e) {
        batch = e;
      }
      assertThat(batch.getMessage()).contains("Marguerite"); // which is why
      assertThat(DatabaseErrors.sentence(batch))
          .isEqualTo("duplicate key value violates unique constraint \"wage_pkey\"");
      SQLException plain = DatabaseErrors.plain(batch);
      assertThat(String.valueOf(plain)).doesNotContain("Marguerite").doesNotContain("4711");
      assertThat((Object) plain.getNextException()).isNull();
      SQLException text = null;
      try {
        c.createStatement().execute("SELECT CAST('Marguerite' AS integer)");
      } catch (SQLException e) {
        text = e;
      }
      assertThat(DatabaseErrors.sentence(text)).isEqualTo("invalid input syntax for type integer");
    }
  }
}
