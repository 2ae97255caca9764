/**
 * Who may do what: roles, what they were granted, and the part of the catalog that each sees. How
 * somebody proves to be a role is for the server.
 */
package dripledger.engine.access;
