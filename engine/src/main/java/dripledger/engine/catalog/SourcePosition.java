package dripledger.engine.catalog;

import java.util.Objects;

/**
 * How far an input has been read. Only the connector that made it can tell what it says; the engine
 * keeps it with the state it stands for and hands it back.
 *
 * @param text a form that fits a database column; never a secret
 */
public record SourcePosition(String text) {
  public SourcePosition {
    Objects.requireNonNull(text, "text");
  }
}
