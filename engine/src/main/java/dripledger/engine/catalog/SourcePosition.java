package dripledger.engine.catalog;

import java.util.Objects;
import java.util.function.Supplier;

/**
 * How far an input has been read. Only the connector that made it can tell what it says; the engine
 * keeps it with the state it stands for and hands it back. Safe from any thread.
 */
public final class SourcePosition {
  private Supplier<String> writer; // until the text is first asked for
  private String text;

  /**
   * @param text a form that fits a database column; never a secret
   */
  public SourcePosition(String text) {
    this.text = Objects.requireNonNull(text, "text");
  }

  /**
   * A position whose text is made when somebody asks, which few of many positions come to.
   *
   * @param writer makes the text of what cannot change any more; run once at most
   */
  public SourcePosition(Supplier<String> writer) {
    this.writer = Objects.requireNonNull(writer, "writer");
  }

  /** The position as text. */
  public synchronized String text() {
    if (text == null) {
      text = writer.get();
      writer = null;
    }
    return text;
  }

  @Override
  public boolean equals(Object other) {
    return other instanceof SourcePosition p && text().equals(p.text());
  }

  @Override
  public int hashCode() {
    return text().hashCode();
  }

  @Override
  public String toString() {
    return text();
  }
}
