package dripledger.engine.access;

/** That a role may do something. */
public record Grant(String role, Privilege privilege, Target on) {}
