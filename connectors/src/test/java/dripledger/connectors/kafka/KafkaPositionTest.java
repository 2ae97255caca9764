package dripledger.connectors.kafka;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.catalog.SourcePosition;
import java.util.Optional;
import org.junit.jupiter.api.Test;

class KafkaPositionTest {
  @Test
  void aPositionIsItsText() {
    KafkaPosition position = new KafkaPosition(new SourcePosition("0:12,10:7,2:0"));
    assertThat(position.toPosition().text()).isEqualTo("0:12,2:0,10:7");
    assertThat(position.isAfter(0, 11)).isTrue();
    assertThat(position.isAfter(0, 12)).isFalse();
    assertThat(position.isAfter(5, 0)).as("a partition that came later").isFalse();
    assertThat(new KafkaPosition(new SourcePosition("")).next()).isEmpty();
  }

  @Test
  void aPositionKnowsItsTopicAndWhoLedIt() {
    KafkaPosition position = new KafkaPosition(new SourcePosition("aB-_c/0:12@3,10:7"));
    assertThat(position.topicId()).isEqualTo("aB-_c");
    assertThat(position.seek(0).leaderEpoch()).contains(3);
    assertThat(position.seek(10).leaderEpoch()).isEmpty();
    position.advance(10, 9, Optional.of(4));
    position.advance(0, 13, Optional.empty());
    assertThat(position.toPosition().text()).isEqualTo("aB-_c/0:13,10:9@4");
    assertThat(new KafkaPosition(new SourcePosition("aB/")).next()).isEmpty();
  }

  @Test
  void anOriginIsItsText() {
    KafkaBatches.Origin origin = new KafkaBatches.Origin("hub-scan.a@b", 12, 345);
    assertThat(origin).hasToString("hub-scan.a@b-12@345");
    assertThat(KafkaBatches.Origin.of(origin.toString())).isEqualTo(origin);
  }
}
