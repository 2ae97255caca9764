package dripledger.engine.access;

import java.time.LocalDateTime;
import java.util.List;

/** Where roles, grants, tokens and the journal outlive the process. Safe from any thread. */
public interface AccessStore {
  /** All roles, in the order they were made. */
  List<Role> roles();

  List<Grant> grants();

  /** Makes a role, or gives it other bounds. */
  void put(Role role);

  /** Forgets a role, with its grants and tokens. */
  void drop(String role);

  /** Grants and revokes in one step. */
  void grant(List<Grant> added, List<Grant> removed);

  /**
   * What a role proves itself by.
   *
   * @param state {@code valid}, {@code expired} or {@code revoked}
   * @param expiresAt in UTC; null for never
   * @param usedAt to the minute, in UTC; null for never
   */
  record Token(
      long id,
      String role,
      String name,
      String state,
      LocalDateTime madeAt,
      String madeBy,
      LocalDateTime expiresAt,
      LocalDateTime usedAt) {}

  List<Token> tokens();

  /**
   * Something that was done.
   *
   * @param via by which token, from where; null if that does not matter
   * @param what {@code define}, {@code grant}, {@code token}, {@code share}, {@code refused},
   *     {@code cancel}, {@code read} or {@code sign-in}
   * @param object its name, or null
   * @param detail in words or as the statement, or null
   */
  record Entry(String role, String via, String what, String object, String detail) {}

  /** Notes something, soon; never waits and never fails. */
  void note(Entry entry);

  /**
   * What was noted.
   *
   * @param times how often within about a second
   */
  record Noted(LocalDateTime at, Entry entry, long times) {}

  /** What was noted last, oldest first, including what is not stored yet. */
  List<Noted> journal();
}
