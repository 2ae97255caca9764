package dripledger.server.http;

import dripledger.connectors.format.RowStream;
import dripledger.engine.Engine;
import dripledger.engine.access.Caller;
import dripledger.engine.access.Privilege;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.RelationVersion;
import jakarta.servlet.http.HttpServletResponse;
import java.io.BufferedOutputStream;
import java.io.IOException;
import java.io.UncheckedIOException;
import org.springframework.security.core.annotation.AuthenticationPrincipal;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.RestController;

/**
 * {@code GET /api/v1/views/{name}.csv}, {@code .ndjson}, {@code .parquet} and {@code .arrow}: all
 * rows of a view or table at one epoch, written as they are read.
 */
@RestController
class ExportController {
  private static final int BUFFER_BYTES = 64 * 1024;

  private final Engine engine;

  ExportController(Engine engine) {
    this.engine = engine;
  }

  @GetMapping("/api/v1/views/{file}")
  @ForRoles
  void export(
      @PathVariable String file,
      @AuthenticationPrincipal Caller caller,
      HttpServletResponse response)
      throws IOException {
    int dot = file.lastIndexOf('.');
    RowStream.Format format = dot < 0 ? null : RowStream.Format.of(file.substring(dot + 1));
    if (format == null) {
      throw new EngineException(
          Code.NOT_FOUND,
          "there is no file \"" + file + "\"",
          "the name of a view ends with .csv, .ndjson, .parquet or .arrow here");
    }
    CatalogObject object = engine.object(file.substring(0, dot), caller);
    caller.need(Privilege.SELECT, object);
    try (Pinned now = engine.pin()) {
      RelationVersion version = Engine.relation(object, now.snapshot());
      response.setContentType(format.mediaType());
      response.setHeader("Drip-Epoch", "" + now.snapshot().epoch());
      response.setHeader(
          "Content-Disposition", "attachment; filename=\"export." + ending(file, dot) + "\"");
      RowStream out =
          RowStream.of(
              format,
              object.name(),
              version.schema().columns(),
              new BufferedOutputStream(response.getOutputStream(), BUFFER_BYTES));
      try {
        version.scan(
            page -> {
              for (int i = 0; i < page.size(); i++) {
                Object[] row = BoxedRows.read(page.layout(), page.bytes(), page.start(i));
                for (long n = page.weight(i); n > 0; n--) {
                  write(out, row);
                }
              }
            });
      } catch (UncheckedIOException e) {
        throw e.getCause();
      }
      out.close(); // and not after an error: what ends early must not look whole
    }
  }

  private static String ending(String file, int dot) {
    return file.substring(dot + 1);
  }

  private static void write(RowStream out, Object[] row) {
    try {
      out.write(row);
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
  }
}
