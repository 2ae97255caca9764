package dripledger.engine.catalog;

import dripledger.engine.row.ColumnType;

/**
 * A parameter of an endpoint.
 *
 * @param defaultValue boxed, what it is if it is not given; null if there is none, or it is NULL
 * @param required whether it must be given
 * @param optional whether the conditions it is in fall away if it is not given
 * @param comment or null
 * @param check the condition its value must fulfil, as text, or null
 */
public record EndpointParameter(
    String name,
    ColumnType type,
    Object defaultValue,
    boolean required,
    boolean optional,
    String comment,
    String check) {}
