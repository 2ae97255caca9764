package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardCopyOption;
import java.nio.file.StandardOpenOption;
import java.nio.file.attribute.PosixFilePermissions;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/** Streams from files of a folder. */
@ResourceLock(SourceTest.ONE)
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
    service.sql("DROP STREAM sheet_too; DROP STREAM sheet; DROP STREAM watched CASCADE");
  }

  /** A folder with a connection of its own that the service may read. */
  private Path folder(String connection) throws Exception {
    Path folder = Files.createTempDirectory("drip-" + connection);
    Files.setPosixFilePermissions(folder, PosixFilePermissions.fromString("rwxr-xr-x"));
    service.sql("CREATE CONNECTION " + connection + " TYPE file OPTIONS (path '" + folder + "')");
    return folder;
  }

  private static void append(Path file, String text) throws IOException {
    Files.writeString(file, text, StandardOpenOption.CREATE, StandardOpenOption.APPEND);
  }

  /** A quote that nobody closes costs its own line, and not those behind it. */
  @Test
  void aStrayQuoteIsOneReject() throws Exception {
    Path folder = folder("quotes");
    append(folder.resolve("a.csv"), "parcel,note\n1,a\n2,\"b\n3,c\n4,d\n");
    append(folder.resolve("b.csv"), "parcel,note\n5,6\" pipe\n6,\"two\nlines\"\n");
    service.sql("CREATE STREAM quoted (parcel BIGINT, note VARCHAR) FROM quotes FORMAT csv");
    String read = "SELECT parcel, note FROM quoted ORDER BY parcel";
    expect(read, "[[1, a], [3, c], [4, d], [5, 6\" pipe], [6, two\nlines]]");
    append(folder.resolve("a.csv"), "7,\"x\n8,\"y\"\n");
    append(folder.resolve("b.csv"), "9,z\n");
    expect("SELECT COUNT(*), SUM(parcel) FROM quoted", "[[7, 36]]");
    expect("SELECT raw FROM drip.rejects WHERE object = 'quoted' ORDER BY 1", "[[2,\"b], [7,\"x]]");
    append(folder.resolve("c.csv"), "crate,remark\n1,a\n");
    append(folder.resolve("d.csv"), "parcel,note\n10,w\n");
    expect("SELECT COUNT(*), SUM(parcel) FROM quoted", "[[8, 46]]");
    assertThat(input("quoted", "crate"))
        .contains("file c.csv: the header (crate, remark) names none of the columns: parcel, note");
    service.sql("DROP STREAM quoted; DROP CONNECTION quotes");
  }

  /** A file is what is in it: not its name. */
  @Test
  void filesThatAreRenamedReplacedOrShortened() throws Exception {
    Path folder = folder("rolls");
    Path log = folder.resolve("scan.log");
    service.sql(
        "CREATE STREAM rolled (parcel BIGINT) FROM rolls FORMAT json;"
            + " CREATE MATERIALIZED VIEW rolled_sum AS"
            + " SELECT COUNT(*) AS n, SUM(parcel) AS s FROM rolled");
    append(log, line(1) + line(2));
    expect("SELECT n, s FROM rolled_sum", "[[2, 3]]");
    service.kill();
    Files.move(log, folder.resolve("scan.log.1"));
    append(folder.resolve("scan.log.1"), line(3));
    append(log, line(10));
    service.start();
    expect("SELECT n, s FROM rolled_sum", "[[4, 16]]");
    Files.writeString(folder.resolve(".new"), line(20) + line(21) + line(22));
    Files.move(folder.resolve(".new"), log, StandardCopyOption.REPLACE_EXISTING);
    expect("SELECT n, s FROM rolled_sum", "[[7, 79]]");
    // The same rows and more in a new file, as programs that save do: only the rest is new.
    Files.writeString(folder.resolve(".new"), line(20) + line(21) + line(22) + line(23));
    Files.move(folder.resolve(".new"), log, StandardCopyOption.REPLACE_EXISTING);
    expect("SELECT n, s FROM rolled_sum", "[[8, 102]]");
    // Emptied in place, and filled anew.
    Files.writeString(log, "", StandardOpenOption.TRUNCATE_EXISTING);
    expect(
        "SELECT position LIKE '%scan.log\"%' FROM drip.inputs WHERE name = 'rolled'", "[[false]]");
    append(log, line(30));
    expect("SELECT n, s FROM rolled_sum", "[[9, 132]]");
    // Shortened: that file waits, the others go on.
    Files.writeString(folder.resolve("scan.log.1"), line(1), StandardOpenOption.TRUNCATE_EXISTING);
    append(folder.resolve("scan.log.2"), line(40));
    expect("SELECT n, s FROM rolled_sum", "[[10, 172]]");
    assertThat(input("rolled", "shorter"))
        .contains("file scan.log.1 is shorter than what was read of it; the other files are read");
    Files.delete(folder.resolve("scan.log.1"));
    Files.delete(log);
    append(folder.resolve("scan.log.3"), line(50));
    expect("SELECT n, s FROM rolled_sum", "[[11, 222]]");
    assertThat(input("rolled", "reading")).contains("[[reading, null]]");
    expect(
        "SELECT position LIKE '%scan.log.2%scan.log.3%' AND NOT position LIKE '%scan.log\"%'"
            + " FROM drip.inputs WHERE name = 'rolled'",
        "[[true]]");
    // The folder goes away and comes back as it was.
    Path away = folder.resolveSibling(folder.getFileName() + "-away");
    Files.move(folder, away);
    assertThat(input("rolled", "waiting")).contains("waiting");
    Files.move(away, folder);
    assertThat(input("rolled", "reading")).contains("[[reading, null]]");
    service.sql("DROP STREAM rolled CASCADE; DROP CONNECTION rolls");
  }

  private static String line(int parcel) {
    return "{\"parcel\": " + parcel + "}\n";
  }
}
