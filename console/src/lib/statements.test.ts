import { describe, expect, it } from 'vitest';
import { connectionStatement, offsetOf, split, statementAt } from './statements';

describe('split', () => {
  it('keeps semicolons in quotes and comments', () => {
    const script = "SELECT ';' AS \"a;b\" -- c;\n;/* ; */ SHOW VIEWS;\n\n";
    expect(split(script).map((s) => s.text)).toEqual(["SELECT ';' AS \"a;b\" -- c;", 'SHOW VIEWS']);
  });

  it('says where each statement stands', () => {
    const script = '-- first\nSELECT 1;\n  SELECT 2';
    for (const span of split(script)) {
      expect(script.slice(span.from, span.to)).toBe(span.text);
    }
    expect(split('  \n -- nothing\n')).toEqual([]);
  });
});

describe('statementAt', () => {
  const script = 'SELECT 1;\n\nSELECT 2;\n';
  it('finds the statement under the cursor', () => {
    expect(statementAt(script, 3)?.text).toBe('SELECT 1');
    expect(statementAt(script, 10)?.text).toBe('SELECT 1');
    expect(statementAt(script, 14)?.text).toBe('SELECT 2');
    expect(statementAt(script, script.length)?.text).toBe('SELECT 2');
    expect(statementAt('', 0)).toBeNull();
  });
});

describe('offsetOf', () => {
  it('turns a place into a character', () => {
    expect(offsetOf('ab\ncd', 2, 2)).toBe(4);
    expect(offsetOf('ab', 5, 1)).toBe(2);
  });
});

describe('connectionStatement', () => {
  it('writes what has a value, and names the secret', () => {
    expect(connectionStatement('hub_ops', 'postgres', { url: "jdbc:x'y", user: 'drip', tls: '' }, 'hub_ops_password')).toBe(
      "CREATE CONNECTION hub_ops TYPE postgres OPTIONS (url 'jdbc:x''y', user 'drip', password SECRET hub_ops_password)",
    );
  });
});
