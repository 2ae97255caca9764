    /** Where words stand that are names there, each as line << 32 | column. */
    public java.util.Set<Long> names = java.util.Collections.emptySet();

    void CommonTokenAction(Token token) {
        if (!names.isEmpty() && names.contains((long) token.beginLine << 32 | token.beginColumn)) {
            token.kind = IDENTIFIER;
        }
    }
