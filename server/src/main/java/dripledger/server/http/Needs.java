package dripledger.server.http;

import dripledger.engine.access.Privilege;
import java.lang.annotation.ElementType;
import java.lang.annotation.Retention;
import java.lang.annotation.RetentionPolicy;
import java.lang.annotation.Target;

/** What a role needs on the object that the path calls {@code name}. */
@Target(ElementType.METHOD)
@Retention(RetentionPolicy.RUNTIME)
@interface Needs {
  Privilege value();
}
