package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardOpenOption;
import java.nio.file.attribute.PosixFilePermissions;
import org.junit.jupiter.api.Test;

/** Streams from files of a folder. */
class FilesTest extends SourceTest {
  @Test
  void filesAreReadOnceAndAsTheyGrow() throws Exception {
    Path folder = Files.createTempDirectory("drip-spool");
    Files.setPosixFilePermissions(folder, PosixFilePermissions.fromString("rwxr-xr-x"));
    Files.writeString(
        folder.resolve("a.ndjson"), scan(1, "G1", 1) + "\n" + scan(2, "G1", 2) + "\n{\"par");
    Files.writeString(
        folder.resolve("a.csv"), "parcel,note\r\n1,\"two\r\nlines\"\r\n2,x\r\nbad,y\r\n");
    service.sql("CREATE CONNECTION spool TYPE file OPTIONS (path '" + folder + "')");
    service.sql(
        "CREATE STREAM watched (parcel BIGINT, grams INTEGER) FROM spool (files '*.ndjson') FORMAT json;"
            + "CREATE STREAM sheet (parcel BIGINT, note VARCHAR) FROM spool (files '*.csv', read 'once') FORMAT csv;"
            + "CREATE MATERIALIZED VIEW watched_sum AS SELECT COUNT(*) AS n, SUM(grams) AS g FROM watched");
    expect("SELECT n, g FROM watched_sum", "[[2, 3]]");
    expect("SELECT * FROM sheet ORDER BY parcel", "[[1, two\r\nlines], [2, x]]");
    expect("SELECT COUNT(*) FROM drip.rejects WHERE object = 'sheet'", "[[1]]");
    service.kill();
    service.start();
    Files.writeString(
        folder.resolve("a.ndjson"), "cel\":3,\"grams\":10}\n", StandardOpenOption.APPEND);
    Files.writeString(folder.resolve("b.ndjson"), scan(4, "G1", 20) + "\n");
    expect("SELECT n, g FROM watched_sum", "[[4, 33]]");
    assertThat(String.valueOf(service.sql("SELECT COUNT(*) FROM watched"))).isEqualTo("[[4]]");
    assertThat(String.valueOf(service.sql("SHOW FILES FROM spool"))).contains("[a.csv, file,");
    service.sql("CREATE STREAM sheet_too FROM spool (files '*.csv') FORMAT csv");
    assertThat(String.valueOf(service.sql("DESCRIBE sheet_too"))).contains("[parcel, VARCHAR");
  }
}
