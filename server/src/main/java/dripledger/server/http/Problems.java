package dripledger.server.http;

import dripledger.engine.error.EngineException;
import dripledger.server.records.RecordsException;
import java.net.URI;
import java.util.Locale;
import org.apache.tomcat.util.http.InvalidParameterException;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.http.HttpStatus;
import org.springframework.http.ProblemDetail;
import org.springframework.http.ResponseEntity;
import org.springframework.web.bind.annotation.ExceptionHandler;
import org.springframework.web.bind.annotation.RestControllerAdvice;
import org.springframework.web.servlet.mvc.method.annotation.ResponseEntityExceptionHandler;

/** Every error as RFC 9457 problem details; those of statements with line, column and hint. */
@RestControllerAdvice
class Problems extends ResponseEntityExceptionHandler {
  private static final Logger LOG = LoggerFactory.getLogger(Problems.class);

  static ProblemDetail of(EngineException e) {
    HttpStatus status =
        switch (e.code()) {
          case SYNTAX, INVALID -> HttpStatus.BAD_REQUEST;
          case NOT_SUPPORTED -> HttpStatus.NOT_IMPLEMENTED;
          case NOT_FOUND -> HttpStatus.NOT_FOUND;
          case FORBIDDEN -> HttpStatus.FORBIDDEN;
          case ALREADY_EXISTS, IN_USE, CONSTRAINT -> HttpStatus.CONFLICT;
          case LIMIT, CANCELLED -> HttpStatus.CONTENT_TOO_LARGE;
          case FAILED -> HttpStatus.UNPROCESSABLE_CONTENT;
          case UNAVAILABLE -> HttpStatus.SERVICE_UNAVAILABLE;
        };
    ProblemDetail problem = ProblemDetail.forStatusAndDetail(status, e.getMessage());
    String code = e.code().name().toLowerCase(Locale.ROOT).replace('_', '-');
    problem.setType(URI.create("urn:drip-ledger:problem:" + code));
    problem.setTitle(
        switch (e.code()) {
          case SYNTAX -> "The statement cannot be read";
          case INVALID -> "The statement does not make sense";
          case NOT_SUPPORTED -> "Not supported yet";
          case NOT_FOUND -> "There is no such thing";
          case FORBIDDEN -> "That is not allowed";
          case ALREADY_EXISTS -> "It is there already";
          case IN_USE -> "It is in use";
          case CONSTRAINT -> "A constraint forbids it";
          case LIMIT -> "A bound was reached";
          case CANCELLED -> "It was ended early";
          case FAILED -> "It failed";
          case UNAVAILABLE -> "Not at this moment";
        });
    if (e.line() > 0) {
      problem.setProperty("line", e.line());
      problem.setProperty("column", e.column());
    }
    if (e.hint() != null) {
      problem.setProperty("hint", e.hint());
    }
    return problem;
  }

  @ExceptionHandler
  ResponseEntity<ProblemDetail> engine(EngineException e) {
    ProblemDetail problem = of(e);
    return ResponseEntity.status(problem.getStatus()).body(problem);
  }

  /** What was taken of a push that was not taken whole. */
  @ExceptionHandler
  ResponseEntity<ProblemDetail> push(Push.Broken e) {
    ProblemDetail problem = of(e.why());
    problem.setProperty("accepted", e.accepted);
    problem.setProperty("rejected", e.rejected);
    return ResponseEntity.status(problem.getStatus()).body(problem);
  }

  @ExceptionHandler
  ResponseEntity<ProblemDetail> records(RecordsException e) {
    LOG.error("records", e);
    ProblemDetail problem =
        ProblemDetail.forStatusAndDetail(HttpStatus.SERVICE_UNAVAILABLE, e.getMessage());
    problem.setProperty("hint", "is the database of records running? try again in a moment");
    return ResponseEntity.status(HttpStatus.SERVICE_UNAVAILABLE).body(problem);
  }

  /** What stands behind the question mark cannot be read. */
  @ExceptionHandler
  ResponseEntity<ProblemDetail> address(InvalidParameterException e) {
    ProblemDetail problem =
        ProblemDetail.forStatusAndDetail(
            HttpStatus.BAD_REQUEST, "what stands behind the question mark cannot be read");
    problem.setProperty("hint", "special characters are written as % and two digits");
    return ResponseEntity.badRequest().body(problem);
  }

  @ExceptionHandler
  ResponseEntity<ProblemDetail> unexpected(RuntimeException e) {
    LOG.error("a request failed", e);
    ProblemDetail problem =
        ProblemDetail.forStatusAndDetail(
            HttpStatus.INTERNAL_SERVER_ERROR, "the service made a mistake; its log says more");
    return ResponseEntity.internalServerError().body(problem);
  }
}
