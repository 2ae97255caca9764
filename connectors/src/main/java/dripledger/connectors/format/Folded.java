package dripledger.connectors.format;

import java.util.ArrayList;
import java.util.List;

/** Long text in lines that can be read. Stateless. */
public final class Folded {
  private static final int LINE = 76;
  private static final String INDENT = "  ";

  private Folded() {}

  /** The lines of a text; all but the first are indented. */
  public static List<String> of(String text) {
    List<String> lines = new ArrayList<>();
    String rest = text;
    while (rest.length() > LINE) {
      int at = Math.max(rest.lastIndexOf(' ', LINE), rest.lastIndexOf(',', LINE) + 1);
      at = at <= INDENT.length() ? LINE : at;
      lines.add(rest.substring(0, at));
      rest = INDENT + rest.substring(at).strip();
    }
    lines.add(rest);
    return lines;
  }
}
