package dripledger.connectors.infer;

import static java.nio.charset.StandardCharsets.UTF_8;
import static org.assertj.core.api.Assertions.assertThat;

import dripledger.connectors.format.Formats;
import dripledger.engine.source.Proposal;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.Test;

class InferenceTest {
  private static Proposal of(boolean keyed, String... messages) {
    Inference inference = new Inference(false);
    for (String message : messages) {
      inference.add(Formats.jsonObject(message.getBytes(UTF_8)), null);
    }
    return inference.proposal(keyed);
  }

  private static List<String> columns(Proposal proposal) {
    return proposal.columns().stream()
        .map(p -> p.column().name() + " " + p.column().type())
        .toList();
  }

  @Test
  void typesAreThoseOfTheValues() {
    String message =
        """
        {"parcel":812345,"gate":"G07","at":"2026-03-02T06:14:09.120Z","grams":1840,"ratio":0.5,
         "price":"12.50","day":"2026-03-02","open":true,"code":"007","tags":["a"],"empty":[],
         "scanner":{"id":"S-31","battery":0.82}}""";
    String[] many = java.util.Collections.nCopies(30, message).toArray(String[]::new);
    Proposal proposal = of(false, many);
    assertThat(columns(proposal))
        .containsExactly(
            "parcel BIGINT NOT NULL",
            "gate VARCHAR NOT NULL",
            "at TIMESTAMP NOT NULL",
            "grams BIGINT NOT NULL",
            "ratio DOUBLE NOT NULL",
            "price DECIMAL(18, 2) NOT NULL",
            "day DATE NOT NULL",
            "open BOOLEAN NOT NULL",
            "code VARCHAR NOT NULL",
            "tags VARCHAR ARRAY NOT NULL",
            "empty VARCHAR NOT NULL",
            "scanner ROW(id VARCHAR, battery DOUBLE) NOT NULL");
    assertThat(proposal.eventTime()).isEqualTo("at");
    assertThat(columns(proposal.flattened()))
        .startsWith("parcel BIGINT NOT NULL")
        .endsWith("scanner_id VARCHAR", "scanner_battery DOUBLE");
    assertThat(proposal.flattened().columns().get(11).path()).containsExactly("scanner", "id");
    assertThat(proposal.flattened().columns().get(11).example()).isEqualTo("S-31");
  }

  @Test
  void flatNamesDoNotClashAndTimesInsideAreFound() {
    Proposal flat =
        of(
                false,
                "{\"a\":{\"b\":1,\"when\":{\"at\":\"2026-03-02T06:14:09Z\"}},\"a_b\":2}",
                "{\"a\":{\"b\":\"x\"}}")
            .flattened();
    assertThat(columns(flat)).containsExactly("a_b_ VARCHAR", "a_when_at TIMESTAMP", "a_b BIGINT");
    assertThat(flat.eventTime()).isEqualTo("a_when_at");
    assertThat(flat.columns().get(0).conflict()).contains("text in 1");
    assertThat(flat.columns().get(1).missing()).isEqualTo(1);
  }

  @Test
  void rareMisfitsAreToldAndManyMakeText() {
    Inference inference = new Inference(false);
    for (int i = 0; i < 100; i++) {
      inference.add(
          Map.of(
              "grams",
              i == 7 ? "heavy" : (Object) (long) i,
              "code",
              i % 2 == 0 ? "x" : (Object) 5L),
          null);
    }
    Proposal proposal = inference.proposal(false);
    assertThat(proposal.columns())
        .anySatisfy(
            p -> {
              assertThat(p.column().name()).isEqualTo("grams");
              assertThat(p.column().type().sql()).isEqualTo("BIGINT");
              assertThat(p.conflict())
                  .isEqualTo("a whole number in 99, but text in 1, such as \"heavy\"");
            })
        .anySatisfy(
            p -> {
              assertThat(p.column().name()).isEqualTo("code");
              assertThat(p.column().type().sql()).isEqualTo("VARCHAR");
              assertThat(p.conflict()).contains("a whole number in 50");
            });
  }

  @Test
  void aFieldThatSomeLackMayBeNull() {
    Proposal proposal = of(false, "{\"a\":1,\"b\":2}", "{\"a\":1}", "{\"a\":null}");
    assertThat(columns(proposal)).containsExactly("a BIGINT", "b BIGINT");
    assertThat(proposal.columns().get(1).missing()).isEqualTo(2);
    assertThat(proposal.eventTime()).isNull();
  }

  @Test
  void theKeyIsTheFieldThatIsTheMessagesKey() {
    Inference inference = new Inference(false);
    for (int i = 0; i < 30; i++) {
      inference.add(Map.of("gate", "G" + i, "id", (long) i, "hall", "North"), "G" + i);
    }
    assertThat(inference.proposal(true).key()).containsExactly("gate");
    Inference without = new Inference(false);
    for (int i = 0; i < 30; i++) {
      without.add(Map.of("gate", "G" + i % 3, "gate_id", (long) i), null);
    }
    assertThat(without.proposal(true).key()).containsExactly("gate_id");
  }

  @Test
  void textOfCsvIsWhatItLooksLike() {
    Inference inference = new Inference(true);
    inference.add(Map.of("n", "12", "p", "1.50", "b", "true", "z", "007"), null);
    assertThat(columns(inference.proposal(false)))
        .containsExactlyInAnyOrder("n BIGINT", "p DECIMAL(18, 2)", "b BOOLEAN", "z VARCHAR");
  }
}
