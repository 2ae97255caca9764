<#-- Our own statements; every production answers a StatementNode that carries one Statement record. -->

boolean IfNotExistsOpt() :
{
}
{
    LOOKAHEAD(3) <IF> <NOT> <EXISTS> { return true; }
|
    { return false; }
}

boolean IfExistsOpt() :
{
}
{
    LOOKAHEAD(2) <IF> <EXISTS> { return true; }
|
    { return false; }
}

SqlNode DripCreate() :
{
    final Span s;
    final SqlIdentifier name;
    boolean replace = false;
    boolean ifNotExists;
    final SqlNode query;
    Statement.Definition def;
    List<SqlIdentifier> columns = null;
    List<SqlIdentifier> key = null;
    SqlIdentifier indexName = null;
    Map<String, SqlNode> options = new LinkedHashMap<String, SqlNode>();
    Map<String, SqlNode> target = new LinkedHashMap<String, SqlNode>();
    Map<String, SqlNode> formatOptions = new LinkedHashMap<String, SqlNode>();
    List<Statement.EndpointParameter> parameters = new ArrayList<Statement.EndpointParameter>();
    SqlNode description = null;
    SqlIdentifier format = null;
    final SqlIdentifier connection;
    final SqlIdentifier type;
}
{
    <CREATE> { s = span(); }
    [ <OR> <REPLACE> { replace = true; } ]
    (
        <STREAM> ifNotExists = IfNotExistsOpt() name = CompoundIdentifier()
        { def = new Statement.Definition(); }
        [ DefinitionElements(def) ]
        [ SourceClause(def) ]
        {
            return new StatementNode(s.end(this),
                new Statement.CreateStream(name, replace, ifNotExists, def));
        }
    |
        <TABLE> ifNotExists = IfNotExistsOpt() name = CompoundIdentifier()
        { def = new Statement.Definition(); }
        [ DefinitionElements(def) ]
        [ SourceClause(def) ]
        {
            return new StatementNode(s.end(this),
                new Statement.CreateTable(name, replace, ifNotExists, def));
        }
    |
        <VIEW> ifNotExists = IfNotExistsOpt() name = CompoundIdentifier()
        [ columns = NameList() ]
        <AS> query = OrderedQueryOrExpr(ExprContext.ACCEPT_QUERY)
        {
            return new StatementNode(s.end(this),
                new Statement.CreateView(name, replace, ifNotExists, false, columns, null, options, query));
        }
    |
        <MATERIALIZED> <VIEW> ifNotExists = IfNotExistsOpt() name = CompoundIdentifier()
        [ columns = NameList() ]
        [ <KEY> key = NameList() ]
        [ <OPTIONS> options = OptionList() ]
        <AS> query = OrderedQueryOrExpr(ExprContext.ACCEPT_QUERY)
        {
            return new StatementNode(s.end(this),
                new Statement.CreateView(name, replace, ifNotExists, true, columns, key, options, query));
        }
    |
        <CONNECTION> ifNotExists = IfNotExistsOpt() name = CompoundIdentifier()
        <TYPE> type = SimpleIdentifier()
        [ <OPTIONS> options = OptionList() ]
        {
            return new StatementNode(s.end(this),
                new Statement.CreateConnection(name, replace, ifNotExists, type, options));
        }
    |
        <INDEX> ifNotExists = IfNotExistsOpt() [ indexName = SimpleIdentifier() ]
        <ON> name = CompoundIdentifier() columns = NameList()
        { return new StatementNode(s.end(this), new Statement.Index(false, ifNotExists, indexName, name, columns)); }
    |
        <SINK> ifNotExists = IfNotExistsOpt() name = CompoundIdentifier()
        <TO> connection = CompoundIdentifier()
        [ target = OptionList() ]
        [ <FORMAT> format = Word() [ formatOptions = OptionList() ] ]
        [ <KEY> key = NameList() ]
        [ <OPTIONS> options = OptionList() ]
        <AS> query = OrderedQueryOrExpr(ExprContext.ACCEPT_QUERY)
        {
            target.putAll(formatOptions);
            return new StatementNode(s.end(this),
                new Statement.CreateSink(name, replace, ifNotExists, connection, target, format, key, options, query));
        }
    |
        <ENDPOINT> ifNotExists = IfNotExistsOpt() name = CompoundIdentifier()
        [
            <LPAREN> EndpointParameter(parameters) ( <COMMA> EndpointParameter(parameters) )* <RPAREN>
        ]
        [ <DESCRIPTION> description = StringLiteral() ]
        [ <OPTIONS> options = OptionList() ]
        <AS> query = OrderedQueryOrExpr(ExprContext.ACCEPT_QUERY)
        {
            return new StatementNode(s.end(this),
                new Statement.CreateEndpoint(name, replace, ifNotExists, parameters, description, options, query));
        }
    |
        <ROLE> ifNotExists = IfNotExistsOpt() name = CompoundIdentifier()
        [ <OPTIONS> options = OptionList() ]
        { return new StatementNode(s.end(this), new Statement.CreateRole(name, ifNotExists, options)); }
    )
}

void EndpointParameter(List<Statement.EndpointParameter> parameters) :
{
    final SqlIdentifier name;
    final SqlDataTypeSpec type;
    SqlNode defaultValue = null;
    SqlNode comment = null;
    SqlNode check = null;
    boolean optional = false;
}
{
    name = SimpleIdentifier()
    type = DataType()
    (
        <DEFAULT_> defaultValue = Literal()
    |
        <OPTIONAL> { optional = true; }
    |
        <COMMENT> comment = StringLiteral()
    |
        <CHECK> <LPAREN> check = Expression(ExprContext.ACCEPT_NON_QUERY) <RPAREN>
    )*
    { parameters.add(new Statement.EndpointParameter(name, type, defaultValue, optional, comment, check)); }
}

List<SqlIdentifier> NameList() :
{
    final List<SqlIdentifier> names = new ArrayList<SqlIdentifier>();
    SqlIdentifier name;
}
{
    <LPAREN> name = SimpleIdentifier() { names.add(name); }
    ( <COMMA> name = SimpleIdentifier() { names.add(name); } )*
    <RPAREN>
    { return names; }
}

Map<String, SqlNode> OptionList() :
{
    final Map<String, SqlNode> options = new LinkedHashMap<String, SqlNode>();
}
{
    <LPAREN> OptionItem(options) ( <COMMA> OptionItem(options) )* <RPAREN>
    { return options; }
}

void OptionItem(Map<String, SqlNode> options) :
{
    final SqlIdentifier name;
    final SqlIdentifier secret;
    SqlNode value;
}
{
    name = Word()
    (
        value = Literal()
    |
        <SECRET> { final Span s = span(); } 
        ( LOOKAHEAD({ getToken(1).image.matches("[A-Za-z_][A-Za-z_0-9]*") })
          secret = Word()
        | secret = SimpleIdentifier() )
        { value = new SecretName(secret.getSimple(), s.end(this)); }
    )
    { options.put(name.getSimple(), value); }
}

/** A name where only a name can be, so that every word of the language may be one. */
JAVACODE SqlIdentifier Word() {
    final Token token = getNextToken();
    if (!token.image.matches("[A-Za-z_][A-Za-z_0-9]*")) {
        throw new ParseException("Encountered \"" + token.image + "\" at line " + token.beginLine
            + ", column " + token.beginColumn + ".");
    }
    return new SqlIdentifier(token.image.toLowerCase(Locale.ROOT), getPos());
}

void DefinitionElements(Statement.Definition def) :
{
}
{
    <LPAREN> DefinitionElement(def) ( <COMMA> DefinitionElement(def) )* <RPAREN>
}

void DefinitionElement(Statement.Definition def) :
{
    final SqlIdentifier name;
    final SqlDataTypeSpec type;
    boolean notNull = false;
    boolean primary = false;
    SqlIdentifier meta = null;
    SqlNode path = null;
    SqlNode lateness = null;
    List<SqlIdentifier> key;
}
{
    LOOKAHEAD(2)
    <EVENT> <TIME> name = SimpleIdentifier()
    [ <LATENESS> lateness = IntervalLiteral() ]
    { def.eventTime(name, lateness); }
|
    <PRIMARY> <KEY> key = NameList()
    { def.primaryKey(key); }
|
    name = SimpleIdentifier()
    type = DataType()
    (
        <NOT> <NULL> { notNull = true; }
    |
        <NULL>
    |
        <PRIMARY> <KEY> { primary = true; }
    |
        <META> meta = Word()
    |
        <PATH> path = StringLiteral()
    )*
    { def.column(new ColumnDefinition(name, type, notNull || primary, primary, meta, path)); }
}

void SourceClause(Statement.Definition def) :
{
    final SqlIdentifier connection;
    Map<String, SqlNode> options = new LinkedHashMap<String, SqlNode>();
    SqlIdentifier format = null;
    Map<String, SqlNode> formatOptions = new LinkedHashMap<String, SqlNode>();
}
{
    <FROM> connection = CompoundIdentifier()
    [ options = OptionList() ]
    [ <FORMAT> format = Word() [ formatOptions = OptionList() ] ]
    { options.putAll(formatOptions); def.source(connection, options, format); }
}

SqlNode DripDrop() :
{
    final Span s;
    SqlIdentifier name;
    final String kind;
    boolean ifExists;
    boolean cascade = false;
    SqlIdentifier indexName = null;
    final List<SqlIdentifier> columns;
}
{
    <DROP> { s = span(); }
    (
        <STREAM> { kind = "STREAM"; }
    |
        <TABLE> { kind = "TABLE"; }
    |
        <VIEW> { kind = "VIEW"; }
    |
        <MATERIALIZED> <VIEW> { kind = "MATERIALIZED VIEW"; }
    |
        <CONNECTION> { kind = "CONNECTION"; }
    |
        <INDEX> ifExists = IfExistsOpt() [ indexName = SimpleIdentifier() ]
        <ON> name = CompoundIdentifier() columns = NameList()
        { if (true) return new StatementNode(s.end(this), new Statement.Index(true, ifExists, indexName, name, columns)); kind = null; }
    |
        <SINK> { kind = "SINK"; }
    |
        <ENDPOINT> { kind = "ENDPOINT"; }
    |
        <ROLE> { kind = "ROLE"; }
    )
    ifExists = IfExistsOpt()
    name = CompoundIdentifier()
    [ <CASCADE> { cascade = true; } | <RESTRICT> ]
    { return new StatementNode(s.end(this), new Statement.Drop(kind, name, ifExists, cascade)); }
}

SqlNode DripAlter() :
{
    final Span s;
    final SqlIdentifier name;
    final String kind;
    Map<String, SqlNode> options;
    Statement.Definition def = new Statement.Definition();
    boolean replay = false;
}
{
    <ALTER> { s = span(); }
    (
        <STREAM> { kind = "STREAM"; }
    |
        <TABLE> { kind = "TABLE"; }
    |
        <CONNECTION> { kind = "CONNECTION"; }
    |
        <SINK> { kind = "SINK"; }
    |
        <ROLE> { kind = "ROLE"; }
    )
    name = CompoundIdentifier()
    (
        <SET> options = OptionList()
        { return new StatementNode(s.end(this), new Statement.AlterOptions(kind, name, options)); }
    |
        <ADD> [ <COLUMN> ] DefinitionElement(def)
        [ <WITH> <REPLAY> { replay = true; } ]
        { return new StatementNode(s.end(this), new Statement.AddColumn(kind, name, def, replay)); }
    )
}

SqlNode DripRefresh() :
{
    final Span s;
    final SqlIdentifier name;
}
{
    <REFRESH> { s = span(); }
    (
        <TABLE> name = CompoundIdentifier()
        { return new StatementNode(s.end(this), new Statement.RefreshTable(name)); }
    |
        <MATERIALIZED> <VIEW> name = CompoundIdentifier()
        { return new StatementNode(s.end(this), new Statement.RefreshView(name)); }
    |
        <SINK> name = CompoundIdentifier()
        { return new StatementNode(s.end(this), new Statement.RefreshSink(name)); }
    )
}

SqlNode DripGrant() :
{
    final Span s;
    final Statement.Rights rights;
    final List<SqlIdentifier> roles = new ArrayList<SqlIdentifier>();
}
{
    <GRANT> { s = span(); }
    rights = Rights()
    <TO> Names(roles)
    { return new StatementNode(s.end(this), new Statement.Grant(false, rights, roles)); }
}

SqlNode DripRevoke() :
{
    final Span s;
    final Statement.Rights rights;
    final List<SqlIdentifier> roles = new ArrayList<SqlIdentifier>();
}
{
    <REVOKE> { s = span(); }
    rights = Rights()
    <FROM> Names(roles)
    { return new StatementNode(s.end(this), new Statement.Grant(true, rights, roles)); }
}

/** What may be done, and to what. */
Statement.Rights Rights() :
{
    List<String> privileges = new ArrayList<String>();
    final List<SqlIdentifier> on = new ArrayList<SqlIdentifier>();
    boolean schema = false;
}
{
    (
        <ALL> [ <PRIVILEGES> ] { privileges = null; }
    |
        Privilege(privileges) ( <COMMA> Privilege(privileges) )*
    )
    <ON>
    [
        <SCHEMA> { schema = true; }
    |
        LOOKAHEAD(2) ( <STREAM> | <TABLE> | <VIEW> | <SINK> | <ENDPOINT> | <CONNECTION> )
    |
        LOOKAHEAD(2) <MATERIALIZED> <VIEW>
    ]
    Names(on)
    { return new Statement.Rights(privileges, schema, on); }
}

void Privilege(List<String> privileges) :
{
}
{
    ( <SELECT> | <INSERT> | <UPDATE> | <DELETE> | <USAGE> | <CREATE> )
    { privileges.add(token.image.toUpperCase(java.util.Locale.ROOT)); }
}

void Names(List<SqlIdentifier> names) :
{
    SqlIdentifier name;
}
{
    name = CompoundIdentifier() { names.add(name); }
    ( <COMMA> name = CompoundIdentifier() { names.add(name); } )*
}

SqlNode DripCancel() :
{
    final Span s;
    final SqlNode number;
}
{
    <CANCEL> { s = span(); }
    number = UnsignedNumericLiteral()
    { return new StatementNode(s.end(this), new Statement.Cancel(number)); }
}

SqlNode DripFollow() :
{
    final Span s;
    final SqlNode query;
}
{
    <FOLLOW> { s = span(); }
    query = OrderedQueryOrExpr(ExprContext.ACCEPT_QUERY)
    { return new StatementNode(s.end(this), new Statement.Follow(query)); }
}

SqlNode DripExplain() :
{
    final Span s;
    boolean analyze = false;
    final SqlNode target;
}
{
    <EXPLAIN> { s = span(); }
    [ LOOKAHEAD(2) <ANALYZE> { analyze = true; } ]
    (
        LOOKAHEAD(<CREATE>) target = DripCreate()
    |
        target = OrderedQueryOrExpr(ExprContext.ACCEPT_ALL)
    )
    { return new StatementNode(s.end(this), new Statement.Explain(analyze, target)); }
}

SqlNode DripDescribe() :
{
    final Span s;
    final SqlIdentifier name;
}
{
    <DESCRIBE> { s = span(); }
    name = CompoundIdentifier()
    { return new StatementNode(s.end(this), new Statement.Describe(name)); }
}

SqlNode DripShow() :
{
    final Span s;
    final String kind;
    SqlIdentifier from = null;
}
{
    <SHOW> { s = span(); }
    (
        <STREAMS> { kind = "STREAMS"; }
    |
        <VIEWS> { kind = "VIEWS"; }
    |
        <CONNECTIONS> { kind = "CONNECTIONS"; }
    |
        ( <TABLES> { kind = "TABLES"; } | <TOPICS> { kind = "TOPICS"; } | <FILES> { kind = "FILES"; } )
        [ <FROM> from = CompoundIdentifier() ]
    |
        <CREATE> { kind = "CREATE"; }
        [ LOOKAHEAD(2) ( <STREAM> | <TABLE> | <CONNECTION> | <SINK> | <ENDPOINT> | [ <MATERIALIZED> ] <VIEW> ) ]
        from = CompoundIdentifier()
    |
        <SINKS> { kind = "SINKS"; }
    |
        <ENDPOINTS> { kind = "ENDPOINTS"; }
    |
        <ROLES> { kind = "ROLES"; }
    |
        <GRANTS> { kind = "GRANTS"; }
    )
    { return new StatementNode(s.end(this), new Statement.Show(kind, from)); }
}

SqlNode DripTransaction() :
{
    final Span s;
}
{
    <BEGIN> { s = span(); } [ <TRANSACTION> ]
    { return new StatementNode(s.end(this), new Statement.Transaction(Statement.Transaction.Step.BEGIN)); }
|
    <COMMIT> { s = span(); }
    { return new StatementNode(s.end(this), new Statement.Transaction(Statement.Transaction.Step.COMMIT)); }
|
    <ROLLBACK> { s = span(); }
    { return new StatementNode(s.end(this), new Statement.Transaction(Statement.Transaction.Step.ROLLBACK)); }
}

void InfixCast(List<Object> list, ExprContext exprContext, Span s) :
{
    final SqlDataTypeSpec type;
}
{
    <INFIX_CAST> { checkNonQueryExpression(exprContext); }
    type = DataType()
    {
        list.add(new SqlParserUtil.ToTreeListItem(SqlLibraryOperators.INFIX_CAST, s.pos()));
        list.add(type);
    }
}

void OwnOperator(List<Object> list, ExprContext exprContext, Span s) :
{
    final OwnOperators step;
}
{
    (
        <LAMBDA> { step = OwnOperators.MEMBER; }
    |
        <JSON_MEMBER_TEXT> { step = OwnOperators.MEMBER_TEXT; }
    |
        <JSON_PATH> { step = OwnOperators.PATH; }
    |
        <JSON_PATH_TEXT> { step = OwnOperators.PATH_TEXT; }
    |
        <TILDE> { step = OwnOperators.MATCHES; }
    |
        <TILDE_IN_ANY_CASE> { step = OwnOperators.MATCHES_IN_ANY_CASE; }
    |
        <TILDE_NOT> { step = OwnOperators.MATCHES_NOT; }
    |
        <TILDE_NOT_IN_ANY_CASE> { step = OwnOperators.MATCHES_NOT_IN_ANY_CASE; }
    )
    {
        checkNonQueryExpression(exprContext);
        list.add(new SqlParserUtil.ToTreeListItem(step.operator(), getPos()));
    }
    AddExpression2b(list, ExprContext.ACCEPT_SUB_QUERY)
}
