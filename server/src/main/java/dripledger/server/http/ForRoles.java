package dripledger.server.http;

import java.lang.annotation.ElementType;
import java.lang.annotation.Retention;
import java.lang.annotation.RetentionPolicy;
import java.lang.annotation.Target;

/** For every role; what it may in particular is looked at inside. */
@Target(ElementType.METHOD)
@Retention(RetentionPolicy.RUNTIME)
@interface ForRoles {}
