package dripledger.server.http;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.catchThrowableOfType;
import static org.mockito.ArgumentMatchers.any;
import static org.mockito.ArgumentMatchers.anyInt;
import static org.mockito.ArgumentMatchers.eq;
import static org.mockito.Mockito.mock;
import static org.mockito.Mockito.when;

import dripledger.connectors.format.BadRecord;
import dripledger.engine.Engine;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.source.Ledger;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import org.junit.jupiter.api.BeforeEach;
import org.junit.jupiter.api.Test;

/** What is told of a push of which a part could not be taken. */
class PushTest {
  private static final Schema SCHEMA =
      Schema.of(new Column("parcel", ColumnType.of(ColumnType.Kind.BIGINT)));
  private static final CatalogObject.Stream STREAM =
      new CatalogObject.Stream(7, "scan", "", SCHEMA, -1, 0, Origins.NONE, null, Map.of());
  private static final LocalDateTime AT = LocalDateTime.of(2026, 3, 2, 6, 14);

  private final Engine engine = mock(Engine.class);
  private final List<String> ids = new ArrayList<>();
  private final List<Integer> rejects = new ArrayList<>();
  private CompletableFuture<Ledger.Receipt> third =
      CompletableFuture.completedFuture(new Ledger.Receipt(3, new long[] {6}));

  @BeforeEach
  void theThirdPartIsAsTold() {
    when(engine.append(eq(STREAM), any(), anyInt(), any(), any()))
        .thenAnswer(
            call -> {
              rejects.add(((List<?>) call.getArgument(3)).size());
              ids.add(call.getArgument(4));
              return ids.size() == 3
                  ? third
                  : CompletableFuture.completedFuture(
                      new Ledger.Receipt(ids.size(), new long[] {ids.size()}));
            });
  }

  private static Page page(int... parcels) {
    Page page = new Page(new RowLayout(SCHEMA));
    for (int parcel : parcels) {
      BoxedRows.write(page.begin(), (long) parcel);
      page.commit(1);
    }
    return page;
  }

  /** Three parts: two rows; a row behind a reject; three rows; and a last reject. */
  private Push pushed(String id) {
    Push push = new Push(engine, STREAM, 0, id, AT);
    push.rows(page(1, 2));
    push.reject(new BadRecord(3, "broken", new byte[] {'x'}));
    push.rows(page(4));
    push.rows(page(5, 6, 7));
    push.reject(new BadRecord(8, "broken", new byte[] {'y'}));
    push.end();
    return push;
  }

  @Test
  void rejectsBecomeDurableWithTheRowsAroundThem() {
    Map<String, Object> answer = pushed(null).answer(null, false, 1000);
    assertThat(answer).containsEntry("accepted", 6L).containsEntry("rejected", 2L);
    assertThat(rejects).containsExactly(0, 1, 0, 1);
    assertThat((List<?>) answer.get("rejects")).hasSize(2);
  }

  @Test
  void aPartThatFailsIsToldWithWhatWasTakenBeforeIt() {
    third = CompletableFuture.failedFuture(new IllegalStateException("the disk is full"));
    Push push = pushed(null);
    Push.Broken broken =
        catchThrowableOfType(Push.Broken.class, () -> push.answer(null, false, 1000));
    assertThat(broken.accepted).isEqualTo(3);
    assertThat(broken.rejected).isEqualTo(1);
    assertThat(broken.why().getMessage()).contains("the disk is full");
    assertThat(broken.why().hint()).contains("the first 4 records are settled");
  }

  @Test
  void aPartThatIsNotAcknowledgedInTimeIsTold() {
    third = new CompletableFuture<>();
    Push push = pushed("push/7/a");
    Push.Broken broken = catchThrowableOfType(Push.Broken.class, () -> push.answer(null, false, 5));
    assertThat(broken.accepted).isEqualTo(3);
    assertThat(broken.why().code()).isEqualTo(Code.UNAVAILABLE);
    assertThat(broken.why().hint()).contains("with the same Idempotency-Key");
  }

  /** A bound that is met in the middle does not hide what is taken already. */
  @Test
  void whatEndsAPushEarlyIsToldWithWhatWasTaken() {
    Push push = new Push(engine, STREAM, 0, null, AT);
    push.rows(page(1, 2));
    EngineException full =
        new EngineException(Code.LIMIT, "the views hold as much as they may", null);
    Push.Broken broken =
        catchThrowableOfType(Push.Broken.class, () -> push.answer(full, false, 1000));
    assertThat(broken.why()).isSameAs(full);
    assertThat(broken.accepted).isEqualTo(2);
  }

  /** Sent again, the parts that are there are passed over, rejects too. */
  @Test
  void whatWasTakenIsNotTakenAgain() {
    pushed("push/7/a");
    List<String> first = List.copyOf(ids);
    assertThat(first).doesNotHaveDuplicates().hasSize(4);
    when(engine.isTaken(any()))
        .thenAnswer(
            call -> first.indexOf(call.getArgument(0)) < 2 && first.contains(call.getArgument(0)));
    ids.clear();
    Map<String, Object> answer = pushed("push/7/a").answer(null, false, 1000);
    assertThat(ids).isEqualTo(first.subList(2, 4));
    assertThat(answer)
        .containsEntry("accepted", 3L)
        .containsEntry("repeated", 3L)
        .containsEntry("rejected", 2L);
  }
}
