-- Expressions that PostgreSQL shares, one a line; each is evaluated over every row of the nasty table.
-- `ours ~~> theirs` where PostgreSQL writes it otherwise.
t = u
t <> u
t < u
t <= u
t > u
t >= u
i = j
i < j
d = e
d < i
f = g
f < g
f > d
day < day2
day = day2
ts < ts2
b = c
t IS NULL
t IS NOT NULL
b IS TRUE
b IS NOT TRUE
b IS FALSE
b IS NOT FALSE
b IS UNKNOWN
b IS NOT UNKNOWN
t IS DISTINCT FROM u
i IS NOT DISTINCT FROM j
f IS DISTINCT FROM g
NOT b
b AND c
b OR c
b AND NOT c OR i > 0
i IN (0, 1, 7)
i NOT IN (0, 1, NULL)
t IN ('a', 'Gull', NULL)
t NOT IN ('a', u)
i IN (j, 1)
i BETWEEN j AND 100
i NOT BETWEEN 0 AND j
t BETWEEN 'A' AND 'a'
d BETWEEN -1 AND e
t LIKE 'G%'
t LIKE '%l'
t LIKE '%u%'
t LIKE '_u%'
t LIKE 'Gull'
t LIKE '%'
t LIKE ''
t LIKE '%\n%' ~~> t LIKE '%\n%' ESCAPE ''
t LIKE '%!%%' ESCAPE '!'
t LIKE 'a!_b' ESCAPE '!'
t NOT LIKE '%a%'
t LIKE u ~~> t LIKE u ESCAPE ''
t LIKE u ESCAPE '!'
u LIKE '%' || t ~~> u LIKE '%' || t ESCAPE ''
CASE WHEN i > 0 THEN 'more' WHEN i < 0 THEN 'less' ELSE 'none' END
CASE WHEN b THEN t END
CASE i WHEN 0 THEN 'zero' WHEN 1 THEN 'one' END
CASE t WHEN u THEN 1 ELSE 0 END
CASE WHEN i <> 0 THEN 100 % i ELSE -1 END
CASE WHEN j <> 0 AND i % j = 0 THEN 'yes' ELSE 'no' END
CASE WHEN n LIKE '%.%' THEN 0 WHEN n LIKE '%x%' THEN 1 ELSE 2 END
CASE WHEN i = 7 THEN 1.5 ELSE i END
COALESCE(t, u, 'none')
COALESCE(i, j)
COALESCE(d, i)
COALESCE(day, DATE '2000-02-29')
NULLIF(t, u)
NULLIF(i, 0)
NULLIF(d, e)
UPPER(t) ~~> upper(t COLLATE "pg_unicode_fast")
UPPER(u) ~~> upper(u COLLATE "pg_unicode_fast")
LOWER(t) ~~> lower(t COLLATE "pg_unicode_fast")
LOWER(u) ~~> lower(u COLLATE "pg_unicode_fast")
TRIM(t)
TRIM(BOTH FROM t)
TRIM(LEADING FROM t)
TRIM(TRAILING FROM t)
TRIM('a' FROM t)
TRIM(LEADING 'Ga' FROM t)
TRIM(TRAILING 'l ' FROM t)
TRIM(BOTH u FROM t)
LTRIM(t)
RTRIM(t)
BTRIM(t, ' a')
LTRIM(t, u)
RTRIM(t, '')
LPAD(t, 5)
LPAD(t, 5, '*')
LPAD(t, 7, 'xyz')
LPAD(t, 3, u)
LPAD(t, 0)
LPAD(t, -2, 'a')
LPAD(t, 4, '')
RPAD(t, 5)
RPAD(t, 5, '*')
RPAD(t, 7, 'xyz')
RPAD(t, 3, u)
RPAD(t, -2)
SUBSTRING(t FROM 2)
SUBSTRING(t FROM 2 FOR 2)
SUBSTRING(t FROM 0 FOR 2)
SUBSTRING(t FROM -3 FOR 5)
SUBSTRING(t FROM 3 FOR 0)
SUBSTRING(t, 1, 1)
SUBSTRING(t, 100)
SUBSTRING(t, -5)
SUBSTRING(t FROM 2 FOR -1)
SUBSTRING(t FROM k FOR 2) ~~> substring(t FROM k::int FOR 2)
SUBSTRING(t FROM 1 FOR k) ~~> substring(t FROM 1 FOR k::int)
LEFT(t, 2)
LEFT(t, 0)
LEFT(t, -1)
LEFT(t, -100)
LEFT(t, k) ~~> left(t, k::int)
RIGHT(t, 2)
RIGHT(t, 0)
RIGHT(t, -1)
RIGHT(t, -100)
RIGHT(t, k) ~~> right(t, k::int)
POSITION('l' IN t)
POSITION('' IN t)
POSITION('ull' IN t)
POSITION(u IN t)
POSITION(t IN u)
POSITION('é' IN t)
CHAR_LENGTH(t)
LENGTH(t)
LENGTH(t || u)
OCTET_LENGTH(t)
OVERLAY(t PLACING 'xx' FROM 2)
OVERLAY(t PLACING 'xx' FROM 2 FOR 1)
OVERLAY(t PLACING '' FROM 1 FOR 2)
OVERLAY(t PLACING u FROM 3)
OVERLAY(t PLACING 'x' FROM 10 FOR 3)
OVERLAY(t PLACING 'x' FROM k FOR 1) ~~> overlay(t placing 'x' from k::int for 1)
REPLACE(t, 'l', 'LL')
REPLACE(t, 'a', '')
REPLACE(t, '', 'x')
REPLACE(t, u, '-')
REPLACE(t, 'é', 'e')
REVERSE(t)
REPEAT(t, 2)
REPEAT(t, 0)
REPEAT(t, -1)
REPEAT(t, k) ~~> repeat(t, k::int)
CONCAT(t, u)
CONCAT(t, NULL, u)
CONCAT(t, i)
CONCAT(i, '-', j)
CONCAT(b, d) ~~> concat(b::text, d)
t || u
t || i
t || '' || u
d || t
day || t
NORMALIZE(t)
NORMALIZE(t, NFD)
NORMALIZE(t, NFKC)
NORMALIZE(t, NFKD)
t LIKE_REGEX '^[A-Z]' ~~> t ~ '^[A-Z]'
t LIKE_REGEX 'l{2}' ~~> t ~ 'l{2}'
t LIKE_REGEX 'GULL' FLAG 'i' ~~> t ~* 'GULL'
t LIKE_REGEX '[0-9]+' ~~> t ~ '[0-9]+'
OCCURRENCES_REGEX('l' IN t) ~~> regexp_count(t, 'l')
OCCURRENCES_REGEX('[a-z]+' IN t) ~~> regexp_count(t, '[a-z]+')
OCCURRENCES_REGEX('[0-9]' IN t FROM 2) ~~> regexp_count(t, '[0-9]', 2)
SUBSTRING_REGEX('[a-z]+' IN t) ~~> regexp_substr(t, '[a-z]+')
SUBSTRING_REGEX('[a-z]' IN t OCCURRENCE 2) ~~> regexp_substr(t, '[a-z]', 1, 2)
SUBSTRING_REGEX('([A-Z])([a-z])' IN t GROUP 2) ~~> regexp_substr(t, '([A-Z])([a-z])', 1, 1, '', 2)
POSITION_REGEX('[a-z]' IN t) ~~> regexp_instr(t, '[a-z]')
POSITION_REGEX(AFTER '[a-z]+' IN t) ~~> regexp_instr(t, '[a-z]+', 1, 1, 1)
POSITION_REGEX('l' IN t OCCURRENCE 2) ~~> regexp_instr(t, 'l', 1, 2)
TRANSLATE_REGEX('[a-z]' IN t WITH '.') ~~> regexp_replace(t, '[a-z]', '.', 'g')
TRANSLATE_REGEX('l+' IN t WITH '<$0>') ~~> regexp_replace(t, 'l+', '<\&>', 'g')
TRANSLATE_REGEX('[^0-9]' IN n) ~~> regexp_replace(n, '[^0-9]', '', 'g')
i + j
i - j
i * j
-i
+i
i + 1
i % j
MOD(i, j)
MOD(j, 7)
MOD(d, 7)
d % NULLIF(e, 0)
ABS(i)
ABS(d)
ABS(f)
SIGN(i) ~~> sign(i::numeric)
SIGN(d)
SIGN(f)
d + e
d - e
d * e
d + i
d * i
-d
f + g
f - g
f * g
f / g
f / 0
f + i
f * d
d / f
ROUND(d)
ROUND(d, 1)
ROUND(d, 2)
ROUND(d, -1)
ROUND(d, -5)
ROUND(d, 5)
ROUND(e, 3)
ROUND(i)
FLOOR(d)
FLOOR(f)
CEILING(d)
CEILING(f)
TRUNC(d)
TRUNC(d, 1)
TRUNC(d, -1)
TRUNC(e, 2)
TRUNC(f)
SQRT(f)
SQRT(CAST(d AS DOUBLE PRECISION))
EXP(f)
LN(f)
LN(CAST(i AS DOUBLE PRECISION))
LOG10(f)
POWER(f, 2)
POWER(f, g)
POWER(f, 0.5) ~~> power(f, 0.5::float8)
POWER(CAST(i AS DOUBLE PRECISION), 2)
GREATEST(CAST(i AS DECIMAL), d) ~~> CASE WHEN i IS NULL OR d IS NULL THEN NULL ELSE greatest(i, d) END
LEAST(t, u) ~~> CASE WHEN t IS NULL OR u IS NULL THEN NULL ELSE least(t, u) END
GREATEST(f, g) ~~> CASE WHEN f IS NULL OR g IS NULL THEN NULL ELSE greatest(f, g) END
LEAST(day, day2) ~~> CASE WHEN day IS NULL OR day2 IS NULL THEN NULL ELSE least(day, day2) END
CAST(i AS TEXT)
CAST(d AS TEXT)
CAST(f AS TEXT)
CAST(b AS TEXT)
CAST(day AS TEXT)
CAST(ts AS TEXT)
CAST(t AS VARCHAR(3))
CAST(n AS INTEGER) ~~> n::bigint
CAST(n AS SMALLINT)
CAST(n AS DECIMAL(6,2))
CAST(n AS DECIMAL(12,3))
CAST(n AS DOUBLE PRECISION)
CAST(d AS INTEGER) ~~> d::bigint
CAST(f AS INTEGER) ~~> CASE WHEN abs(f) < 1e18 THEN round(f::numeric)::bigint ELSE f::bigint END
CAST(i AS SMALLINT)
CAST(i AS DOUBLE PRECISION)
CAST(d AS DOUBLE PRECISION)
CAST(i AS DECIMAL(6,2))
CAST(d AS DECIMAL(4,1))
CAST(day AS TIMESTAMP)
CAST(ts AS DATE)
CAST(m AS DATE)
CAST(m AS TIMESTAMP)
EXTRACT(YEAR FROM day)
EXTRACT(QUARTER FROM day)
EXTRACT(MONTH FROM day)
EXTRACT(DAY FROM day)
EXTRACT(ISODOW FROM day)
EXTRACT(DOY FROM day)
EXTRACT(WEEK FROM day)
EXTRACT(YEAR FROM ts)
EXTRACT(HOUR FROM ts)
EXTRACT(MINUTE FROM ts)
EXTRACT(SECOND FROM ts)
EXTRACT(WEEK FROM ts)
day + 1
day - 1
day + k ~~> day + k::int
day - day2
ts - ts2
day + INTERVAL '1' MONTH ~~> (day + INTERVAL '1 month')::date
day - INTERVAL '1' MONTH ~~> (day - INTERVAL '1 month')::date
day + INTERVAL '1' YEAR ~~> (day + INTERVAL '1 year')::date
day - INTERVAL '13' MONTH ~~> (day - INTERVAL '13 month')::date
day + INTERVAL '10' DAY ~~> (day + INTERVAL '10 day')::date
day + INTERVAL '90' MINUTE ~~> day + INTERVAL '90 minute'
ts + INTERVAL '1' MONTH ~~> ts + INTERVAL '1 month'
ts - INTERVAL '36' HOUR ~~> ts - INTERVAL '36 hour'
ts + INTERVAL '1.5' SECOND ~~> ts + INTERVAL '1.5 second'
day + (ts - ts2)
CAST(day AS TEXT FORMAT 'DD.MM.YYYY') ~~> to_char(day, 'DD.MM.YYYY')
CAST(day AS TEXT FORMAT 'FMDD/FMMM/YY') ~~> to_char(day, 'FMDD/FMMM/YY')
CAST(ts AS TEXT FORMAT 'YYYY-MM-DD HH24:MI:SS') ~~> to_char(ts, 'YYYY-MM-DD HH24:MI:SS')
CAST(ts AS TEXT FORMAT 'HH12:MI AM') ~~> to_char(ts, 'HH12:MI AM')
CAST(ts AS TEXT FORMAT 'SS.FF3') ~~> to_char(ts, 'SS.FF3')
EXTRACT(YEAR FROM day) - EXTRACT(YEAR FROM day2)
