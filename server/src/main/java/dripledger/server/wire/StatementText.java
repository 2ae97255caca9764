package dripledger.server.wire;

import java.util.ArrayList;
import java.util.List;

/**
 * One statement of what a client sent.
 *
 * @param text without the semicolon behind it
 * @param offset where it begins in what was sent, in characters
 * @param tokens places in it count from its own begin
 */
record StatementText(String text, int offset, List<Lexer.Token> tokens) {
  private static final Lexer.Token NONE = new Lexer.Token(Lexer.Kind.SYMBOL, "", 0, 0);

  /** The statements of a script; those without a word are left out. */
  static List<StatementText> split(String script) {
    List<StatementText> statements = new ArrayList<>();
    List<Lexer.Token> tokens = new ArrayList<>();
    for (Lexer.Token token : Lexer.tokens(script)) {
      if (token.is(";")) {
        add(statements, script, tokens);
        tokens.clear();
      } else {
        tokens.add(token);
      }
    }
    add(statements, script, tokens);
    return statements;
  }

  private static void add(List<StatementText> statements, String script, List<Lexer.Token> tokens) {
    if (tokens.isEmpty()) {
      return;
    }
    int from = tokens.get(0).from();
    String text = script.substring(from, tokens.get(tokens.size() - 1).to());
    statements.add(
        new StatementText(
            text,
            from,
            tokens.stream()
                .map(t -> new Lexer.Token(t.kind(), t.text(), t.from() - from, t.to() - from))
                .toList()));
  }

  /** The token at a place, or an empty one behind the end. */
  Lexer.Token token(int i) {
    return i < tokens.size() ? tokens.get(i) : NONE;
  }

  /** Whether it begins with these words. */
  boolean begins(String... words) {
    for (int i = 0; i < words.length; i++) {
      if (!token(i).is(words[i])) {
        return false;
      }
    }
    return true;
  }

  /** Its text from a token on. */
  StatementText from(int token) {
    int from = tokens.get(token).from();
    return new StatementText(
        text.substring(from),
        offset + from,
        tokens.subList(token, tokens.size()).stream()
            .map(t -> new Lexer.Token(t.kind(), t.text(), t.from() - from, t.to() - from))
            .toList());
  }
}
