package dripledger.server.http;

import dripledger.engine.Engine;
import dripledger.engine.access.Privilege;
import dripledger.engine.change.RejectReplay;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.nio.charset.StandardCharsets;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.function.UnaryOperator;
import java.util.regex.Pattern;
import java.util.regex.PatternSyntaxException;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.PostMapping;
import org.springframework.web.bind.annotation.RequestBody;
import org.springframework.web.bind.annotation.RestController;

/**
 * {@code POST /api/v1/objects/{name}/rejects/replay}: takes rejected messages in after all, as they
 * are or repaired. They are read with {@code SELECT … FROM drip.rejects}.
 */
@RestController
class RejectsController {
  private final Engine engine;

  RejectsController(Engine engine) {
    this.engine = engine;
  }

  /**
   * What to replay and how to repair it.
   *
   * @param ids which rejects; missing or empty for all
   * @param raw the whole message to read instead; with one id only
   * @param pattern a regular expression to look for in the message
   * @param into the stream that takes what a view left out as too late; missing for other objects
   * @param replacement what to put in its place; $1 stands for the first group
   */
  record Replay(List<Long> ids, String raw, String pattern, String replacement, String into) {}

  @PostMapping("/api/v1/objects/{name}/rejects/replay")
  @Needs(Privilege.OWN)
  Map<String, Object> replay(@PathVariable String name, @RequestBody Replay replay) {
    List<Long> ids = replay.ids() == null ? List.of() : replay.ids();
    RejectReplay.Outcome outcome =
        engine
            .rejects()
            .replay(
                engine.object(name),
                ids,
                repair(replay, ids),
                replay.into() == null ? null : engine.object(replay.into()));
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("taken", outcome.taken());
    answer.put("overtaken", outcome.overtaken());
    answer.put("left", outcome.left());
    answer.put("first_reason", outcome.firstReason());
    answer.put("epoch", outcome.epoch());
    return answer;
  }

  /** Refuses a replacement that names a group which the pattern does not have. */
  private static void check(Pattern pattern, String replacement) {
    try {
      Pattern.compile("(?:" + pattern.pattern() + ")|").matcher("").replaceAll(replacement);
    } catch (IndexOutOfBoundsException | IllegalArgumentException e) {
      throw new EngineException(
          Code.INVALID,
          "the replacement cannot be read: " + e.getMessage(),
          "$1 stands for the first group; a plain $ is written \\$, a plain backslash \\\\");
    }
  }

  private static UnaryOperator<byte[]> repair(Replay replay, List<Long> ids) {
    if (replay.raw() != null) {
      if (ids.size() != 1) {
        throw new EngineException(
            Code.INVALID, "one message can stand for one reject only", "name its id");
      }
      return raw -> replay.raw().getBytes(StandardCharsets.UTF_8);
    }
    if (replay.pattern() == null) {
      return raw -> raw;
    }
    try {
      Pattern pattern = Pattern.compile(replay.pattern());
      String replacement = replay.replacement() == null ? "" : replay.replacement();
      check(pattern, replacement);
      return raw ->
          pattern
              .matcher(new String(raw, StandardCharsets.UTF_8))
              .replaceAll(replacement)
              .getBytes(StandardCharsets.UTF_8);
    } catch (PatternSyntaxException e) {
      throw new EngineException(
          Code.INVALID, "the pattern cannot be read: " + e.getDescription(), null);
    }
  }
}
