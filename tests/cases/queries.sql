-- Queries that PostgreSQL shares, one a line, over b (boats), s (stays) and o (owners). `ours ~~> theirs` where it writes otherwise.
-- Results are compared as multisets, and as lists where the outermost query has an ORDER BY.
-- SELECT
SELECT * FROM b
SELECT id, name FROM b
SELECT b.* FROM b
SELECT b.id, b.name AS boat FROM b
SELECT id + 1 AS next, n * 2, fee - 1 FROM b
SELECT id twice, id FROM b
SELECT DISTINCT pier FROM b
SELECT DISTINCT pier, n FROM b
SELECT DISTINCT UPPER(pier) FROM b
SELECT DISTINCT fee FROM b
SELECT DISTINCT * FROM s
SELECT ALL pier FROM b
SELECT 1
SELECT 1 AS a, 'x' AS b, NULL AS c
SELECT CASE WHEN n > 3 THEN 'many' WHEN n IS NULL THEN 'none' ELSE 'few' END AS much FROM b
SELECT COALESCE(name, pier, '?') FROM b
SELECT id, name || '/' || pier FROM b
SELECT x.id FROM b AS x
SELECT x.id FROM b x
SELECT "b"."id" FROM b
SELECT day + 1 AS tomorrow FROM b
SELECT LEFT(name, 2), RIGHT(name, 2), LENGTH(name) FROM b
SELECT q.a FROM (SELECT id AS a FROM b) AS q
SELECT q.a + q.b FROM (SELECT id, n FROM b) AS q(a, b)
SELECT * FROM (SELECT id, n FROM b WHERE n > 2) q WHERE id < 9
SELECT * FROM (VALUES (1, 'x'), (2, NULL), (NULL, 'z')) AS v(a, b)
SELECT a + 1 FROM (VALUES (1), (2.5), (NULL)) AS v(a)
VALUES (1, 'a'), (2, 'b')
-- WHERE
SELECT id FROM b WHERE n > 2
SELECT id FROM b WHERE n > 2 AND pier = 'A'
SELECT id FROM b WHERE n > 2 OR pier = 'A'
SELECT id FROM b WHERE NOT n > 2
SELECT id FROM b WHERE name IS NULL
SELECT id FROM b WHERE name IS NOT NULL AND name <> ''
SELECT id FROM b WHERE pier IN ('A', 'B')
SELECT id FROM b WHERE pier NOT IN ('A', 'B')
SELECT id FROM b WHERE pier NOT IN ('A', NULL)
SELECT id FROM b WHERE n BETWEEN 1 AND 3
SELECT id FROM b WHERE name LIKE 'G%'
SELECT id FROM b WHERE name LIKE '%l_' OR name LIKE ''
SELECT id FROM b WHERE (n > 1) IS UNKNOWN
SELECT id FROM b WHERE n IS DISTINCT FROM 2
SELECT id FROM b WHERE day >= DATE '2024-03-01'
SELECT id FROM b WHERE n = fee
SELECT id FROM b WHERE n <> 0 AND 10 / n > 3 ~~> SELECT id FROM b WHERE CASE WHEN n <> 0 THEN 10.0 / n > 3 END
SELECT id FROM b WHERE CASE WHEN n = 0 THEN FALSE ELSE 10 / n > 3 END ~~> SELECT id FROM b WHERE CASE WHEN n = 0 THEN FALSE ELSE 10.0 / n > 3 END
SELECT id FROM b WHERE TRUE
SELECT id FROM b WHERE NULL
-- ORDER BY, OFFSET, FETCH
SELECT id, name FROM b ORDER BY name, id
SELECT id, name FROM b ORDER BY name DESC, id
SELECT id, name FROM b ORDER BY name NULLS FIRST, id
SELECT id, name FROM b ORDER BY name DESC NULLS LAST, id DESC
SELECT id, n AS much FROM b ORDER BY much, id
SELECT id, n FROM b ORDER BY 2, 1
SELECT id, n FROM b ORDER BY 2 DESC, 1 DESC
SELECT id FROM b ORDER BY n * fee, id
SELECT id FROM b ORDER BY UPPER(name) DESC NULLS LAST, id
SELECT id FROM b ORDER BY CASE WHEN pier = 'B' THEN 0 ELSE 1 END, id
SELECT id FROM b ORDER BY id LIMIT 3
SELECT id FROM b ORDER BY id OFFSET 3 ROWS
SELECT id FROM b ORDER BY id OFFSET 2 LIMIT 3
SELECT id FROM b ORDER BY id LIMIT 3 OFFSET 2
SELECT id FROM b ORDER BY id FETCH FIRST 4 ROWS ONLY
SELECT id FROM b ORDER BY id OFFSET 1 ROW FETCH NEXT ROW ONLY
SELECT n FROM b ORDER BY n FETCH FIRST 3 ROWS WITH TIES
SELECT pier FROM b ORDER BY pier DESC FETCH FIRST 2 ROWS WITH TIES
SELECT id FROM b ORDER BY id LIMIT 0
SELECT id FROM b ORDER BY id OFFSET 1000
SELECT DISTINCT pier FROM b ORDER BY pier
SELECT DISTINCT pier AS p FROM b ORDER BY p DESC
SELECT DISTINCT UPPER(pier) FROM b ORDER BY UPPER(pier)
SELECT id FROM b ORDER BY day, fee DESC, id
-- joins
SELECT b.id, s.sid FROM b JOIN s ON b.id = s.bid
SELECT b.id, s.sid FROM b INNER JOIN s ON s.bid = b.id
SELECT b.id, s.sid FROM b LEFT JOIN s ON b.id = s.bid
SELECT b.id, s.sid FROM b LEFT OUTER JOIN s ON b.id = s.bid AND s.nights > 3
SELECT b.id, s.sid FROM b LEFT JOIN s ON b.id = s.bid AND b.n > 2
SELECT b.id, s.sid FROM b RIGHT JOIN s ON b.id = s.bid
SELECT b.id, s.sid FROM b FULL JOIN s ON b.id = s.bid
SELECT b.id, s.sid FROM b FULL OUTER JOIN s ON b.id = s.bid AND b.pier = s.berth ~~> SELECT b.id, s.sid FROM b FULL OUTER JOIN s ON b.id = s.bid AND b.pier = s.berth
SELECT b.id, o.oid FROM b CROSS JOIN o
SELECT b.id, o.oid FROM b, o WHERE b.owner = o.oid
SELECT b.id, o.oid FROM b, o
SELECT * FROM b JOIN o ON b.owner = o.oid
SELECT b.id, o.name FROM b LEFT JOIN o ON UPPER(b.name) = UPPER(o.name)
SELECT b.id, s.sid FROM b JOIN s ON b.id < s.bid
SELECT b.id, s.sid FROM b LEFT JOIN s ON b.id < s.bid AND s.nights > b.n
SELECT b.id, s.sid FROM b JOIN s ON b.id = s.bid OR b.pier = s.berth
SELECT b.id, s.sid FROM b JOIN s ON TRUE WHERE s.nights = 2
SELECT x.id, y.id FROM b x JOIN b y ON x.pier = y.pier AND x.id < y.id
SELECT id, sid FROM b JOIN (SELECT sid, bid AS id FROM s) AS t USING (id)
SELECT id, sid FROM b LEFT JOIN (SELECT sid, bid AS id FROM s) AS t USING (id)
SELECT j.oid, j.who, sid FROM s RIGHT JOIN (b JOIN o ON b.owner = o.oid) AS j(bid, who) ON s.bid = j.bid
SELECT * FROM (b LEFT JOIN (SELECT sid, bid AS id FROM s) AS t USING (id)) AS j(k, who)
SELECT id, sid FROM b RIGHT JOIN (SELECT sid, bid AS id FROM s) AS t USING (id)
SELECT id, sid FROM b FULL JOIN (SELECT sid, bid AS id FROM s) AS t USING (id)
SELECT b.id, s.sid, o.town FROM b JOIN s ON b.id = s.bid JOIN o ON o.oid = b.owner
SELECT b.id, s.sid, o.town FROM b LEFT JOIN s ON b.id = s.bid LEFT JOIN o ON o.oid = b.owner AND o.town <> 'Holm'
SELECT b.id, s.sid FROM b LEFT JOIN s ON b.id = s.bid WHERE s.sid IS NULL
SELECT b.id, s.sid FROM b LEFT JOIN s ON b.id = s.bid WHERE s.nights > 2
SELECT b.name, o.name FROM b JOIN o ON b.name = o.name
SELECT b.id FROM b JOIN s ON b.fee = s.amount
SELECT b.id, s.sid FROM b JOIN s ON b.n = s.nights AND b.fee = s.amount
SELECT b.id, s.sid FROM b LEFT JOIN s ON b.id + 1 = s.bid
SELECT b.id, s.sid FROM b LEFT JOIN s ON FALSE
-- UNNEST
SELECT id, tag FROM b, UNNEST(LIST_ITEMS(tags, ';')) AS u(tag) ~~> SELECT id, tag FROM b, UNNEST(string_to_array(tags, ';')) AS u(tag)
SELECT id, tag, n2 FROM b, UNNEST(LIST_ITEMS(tags, ';')) WITH ORDINALITY AS u(tag, n2) ~~> SELECT id, tag, n2 FROM b, UNNEST(string_to_array(tags, ';')) WITH ORDINALITY AS u(tag, n2)
SELECT id, tag FROM b LEFT JOIN UNNEST(LIST_ITEMS(tags, ';')) AS u(tag) ON TRUE ~~> SELECT id, tag FROM b LEFT JOIN UNNEST(string_to_array(tags, ';')) AS u(tag) ON TRUE
SELECT id, tag, place FROM b LEFT JOIN UNNEST(LIST_ITEMS(tags, ';')) WITH ORDINALITY AS u(tag, place) ON TRUE ~~> SELECT id, tag, place FROM b LEFT JOIN UNNEST(string_to_array(tags, ';')) WITH ORDINALITY AS u(tag, place) ON TRUE
SELECT tag, COUNT(*) FROM b, UNNEST(LIST_ITEMS(tags, ';')) AS u(tag) GROUP BY tag ~~> SELECT tag, COUNT(*) FROM b, UNNEST(string_to_array(tags, ';')) AS u(tag) GROUP BY tag
SELECT id, COUNT(tag) FROM b LEFT JOIN UNNEST(LIST_ITEMS(tags, ';')) AS u(tag) ON TRUE GROUP BY id ~~> SELECT id, COUNT(tag) FROM b LEFT JOIN UNNEST(string_to_array(tags, ';')) AS u(tag) ON TRUE GROUP BY id
SELECT id FROM b, UNNEST(LIST_ITEMS(tags, ';')) AS u(tag) WHERE tag = 'sea' ~~> SELECT id FROM b, UNNEST(string_to_array(tags, ';')) AS u(tag) WHERE tag = 'sea'
-- GROUP BY and aggregates
SELECT COUNT(*) FROM b
SELECT COUNT(*), COUNT(name), COUNT(DISTINCT pier), COUNT(DISTINCT n) FROM b
SELECT SUM(n), MIN(n), MAX(n), AVG(n) FROM b
SELECT SUM(fee), MIN(fee), MAX(fee), AVG(fee) FROM b
SELECT MIN(name), MAX(name), MIN(day), MAX(day) FROM b
SELECT COUNT(*), SUM(n), AVG(n), MIN(name) FROM b WHERE id > 1000
SELECT pier, COUNT(*) FROM b GROUP BY pier
SELECT pier, COUNT(*), COUNT(n), SUM(n), AVG(n) FROM b GROUP BY pier
SELECT pier, n, COUNT(*) FROM b GROUP BY pier, n
SELECT pier p, COUNT(*) c FROM b GROUP BY p
SELECT pier, COUNT(*) FROM b GROUP BY 1
SELECT UPPER(pier), COUNT(*) FROM b GROUP BY UPPER(pier)
SELECT UPPER(pier) || '!', COUNT(*) FROM b GROUP BY UPPER(pier)
SELECT n + 1, COUNT(*) FROM b GROUP BY n + 1
SELECT b.pier, COUNT(*) FROM b GROUP BY pier
SELECT pier, COUNT(*) FROM b GROUP BY b.pier
SELECT COUNT(*) FROM b GROUP BY pier
SELECT pier FROM b GROUP BY pier
SELECT pier, COUNT(*) FILTER (WHERE n > 2), SUM(fee) FILTER (WHERE n > 2) FROM b GROUP BY pier
SELECT COUNT(*) FILTER (WHERE name IS NULL) FROM b
SELECT SUM(DISTINCT n), AVG(DISTINCT n) FROM b
SELECT pier, SUM(DISTINCT n) FROM b GROUP BY pier
SELECT pier, COUNT(*) FROM b GROUP BY pier HAVING COUNT(*) > 2
SELECT pier FROM b GROUP BY pier HAVING SUM(n) > 5
SELECT pier, COUNT(*) FROM b GROUP BY pier HAVING pier <> 'A'
SELECT COUNT(*) FROM b HAVING COUNT(*) > 1000
SELECT pier, COUNT(*) AS c FROM b GROUP BY pier ORDER BY c DESC, pier
SELECT pier FROM b GROUP BY pier ORDER BY COUNT(*), pier
SELECT pier, MAX(n) - MIN(n) FROM b GROUP BY pier
SELECT pier, CASE WHEN COUNT(*) > 2 THEN 'big' ELSE 'small' END FROM b GROUP BY pier
SELECT STDDEV_SAMP(n), STDDEV_POP(n), VAR_SAMP(n), VAR_POP(n) FROM b
SELECT pier, VAR_SAMP(n), STDDEV_POP(n) FROM b GROUP BY pier
SELECT PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY n) FROM b
SELECT pier, PERCENTILE_CONT(0.25) WITHIN GROUP (ORDER BY fee) FROM b GROUP BY pier
SELECT pier, PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY n) FROM b GROUP BY pier
SELECT PERCENTILE_DISC(0.9) WITHIN GROUP (ORDER BY name DESC) FROM b
SELECT PERCENTILE_DISC(0) WITHIN GROUP (ORDER BY n), PERCENTILE_DISC(1) WITHIN GROUP (ORDER BY n) FROM b
SELECT pier, LISTAGG(name, ',') WITHIN GROUP (ORDER BY name, id) FROM b GROUP BY pier ~~> SELECT pier, string_agg(name, ',' ORDER BY name, id) FROM b GROUP BY pier
SELECT LISTAGG(pier, '') WITHIN GROUP (ORDER BY id DESC) FROM b ~~> SELECT string_agg(pier, '' ORDER BY id DESC) FROM b
SELECT pier, n, COUNT(*) FROM b GROUP BY ROLLUP (pier, n)
SELECT pier, n, SUM(fee) FROM b GROUP BY CUBE (pier, n)
SELECT pier, n, COUNT(*) FROM b GROUP BY GROUPING SETS ((pier, n), (pier), ())
SELECT pier, n, COUNT(*) FROM b GROUP BY GROUPING SETS (pier, n)
SELECT pier, GROUPING(pier), COUNT(*) FROM b GROUP BY ROLLUP (pier)
SELECT pier, n, GROUPING(pier, n), COUNT(*) FROM b GROUP BY CUBE (pier, n)
SELECT pier, n, COUNT(*) FROM b GROUP BY pier, ROLLUP (n)
SELECT COUNT(*) FROM b GROUP BY ()
SELECT o.town, COUNT(*), SUM(b.fee) FROM b JOIN o ON b.owner = o.oid GROUP BY o.town
SELECT b.id, COUNT(s.sid), SUM(s.nights) FROM b LEFT JOIN s ON b.id = s.bid GROUP BY b.id
SELECT MAX(c) FROM (SELECT pier, COUNT(*) AS c FROM b GROUP BY pier) AS q
SELECT fee > 100, COUNT(*) FROM b GROUP BY fee > 100
SELECT day, COUNT(*) FROM b GROUP BY day
SELECT MIN(n > 2) FROM b ~~> SELECT bool_and(n > 2) FROM b
SELECT pier, ANY_VALUE(pier) FROM b GROUP BY pier ~~> SELECT pier, MIN(pier) FROM b GROUP BY pier
-- windows
SELECT id, ROW_NUMBER() OVER (ORDER BY id) FROM b
SELECT id, ROW_NUMBER() OVER (PARTITION BY pier ORDER BY id DESC) FROM b
SELECT id, RANK() OVER (ORDER BY n), DENSE_RANK() OVER (ORDER BY n) FROM b
SELECT id, RANK() OVER (PARTITION BY pier ORDER BY n DESC NULLS LAST) FROM b
SELECT id, PERCENT_RANK() OVER (ORDER BY n), CUME_DIST() OVER (ORDER BY n) FROM b
SELECT id, NTILE(3) OVER (ORDER BY id) FROM b
SELECT id, NTILE(100) OVER (PARTITION BY pier ORDER BY id) FROM b
SELECT id, COUNT(*) OVER () FROM b
SELECT id, COUNT(*) OVER (PARTITION BY pier) FROM b
SELECT id, COUNT(n) OVER (PARTITION BY pier ORDER BY id) FROM b
SELECT id, SUM(n) OVER (PARTITION BY pier ORDER BY id) FROM b
SELECT id, SUM(fee) OVER (ORDER BY n) FROM b
SELECT id, AVG(n) OVER (PARTITION BY pier) FROM b
SELECT id, SUM(n) OVER (ORDER BY id ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING) FROM b
SELECT id, SUM(n) OVER (ORDER BY id ROWS BETWEEN 2 PRECEDING AND 1 PRECEDING) FROM b
SELECT id, COUNT(*) OVER (ORDER BY id ROWS BETWEEN 1 FOLLOWING AND 3 FOLLOWING) FROM b
SELECT id, SUM(n) OVER (ORDER BY id ROWS UNBOUNDED PRECEDING) FROM b
SELECT id, SUM(n) OVER (ORDER BY id ROWS BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING) FROM b
SELECT id, SUM(n) OVER (ORDER BY n RANGE BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW) FROM b
SELECT id, SUM(n) OVER (ORDER BY n RANGE BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING) FROM b
SELECT id, MIN(n) OVER (ORDER BY id ROWS BETWEEN 2 PRECEDING AND CURRENT ROW), MAX(n) OVER (ORDER BY id ROWS BETWEEN 2 PRECEDING AND 2 FOLLOWING) FROM b
SELECT id, MIN(name) OVER (PARTITION BY pier ORDER BY id), MAX(day) OVER (PARTITION BY pier) FROM b
SELECT id, LAG(n) OVER (ORDER BY id), LEAD(n) OVER (ORDER BY id) FROM b
SELECT id, LAG(name, 2) OVER (PARTITION BY pier ORDER BY id), LEAD(id, 2, -1) OVER (ORDER BY id) FROM b
SELECT id, FIRST_VALUE(name) OVER (PARTITION BY pier ORDER BY id), LAST_VALUE(name) OVER (PARTITION BY pier ORDER BY id) FROM b
SELECT id, LAST_VALUE(id) OVER (PARTITION BY pier ORDER BY n, id ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING) FROM b
SELECT id, RANK() OVER w, COUNT(*) OVER w FROM b WINDOW w AS (PARTITION BY pier ORDER BY n)
SELECT id, n - LAG(n) OVER (ORDER BY id) AS step FROM b
SELECT * FROM (SELECT id, ROW_NUMBER() OVER (PARTITION BY pier ORDER BY fee DESC, id) AS r FROM b) q WHERE r = 1
SELECT pier, COUNT(*), RANK() OVER (ORDER BY COUNT(*) DESC) FROM b GROUP BY pier
SELECT pier, SUM(SUM(n)) OVER (ORDER BY pier) FROM b GROUP BY pier
SELECT id, COUNT(*) FILTER (WHERE n > 2) OVER (PARTITION BY pier) FROM b
SELECT id FROM b ORDER BY ROW_NUMBER() OVER (ORDER BY fee, id DESC)
SELECT COUNT(*) OVER (PARTITION BY pier, n) FROM b
-- subqueries
SELECT id FROM b WHERE id IN (SELECT bid FROM s)
SELECT id FROM b WHERE id NOT IN (SELECT bid FROM s)
SELECT id FROM b WHERE id NOT IN (SELECT bid FROM s WHERE bid IS NOT NULL)
SELECT id FROM b WHERE name IN (SELECT name FROM o WHERE town = 'nowhere')
SELECT id FROM b WHERE name NOT IN (SELECT name FROM o WHERE town = 'nowhere')
SELECT id FROM b WHERE EXISTS (SELECT 1 FROM s WHERE s.bid = b.id)
SELECT id FROM b WHERE NOT EXISTS (SELECT 1 FROM s WHERE s.bid = b.id)
SELECT id FROM b WHERE EXISTS (SELECT * FROM s WHERE s.bid = b.id AND s.nights > b.n)
SELECT id FROM b WHERE EXISTS (SELECT 1 FROM s WHERE nights > 100)
SELECT id, (SELECT COUNT(*) FROM s WHERE s.bid = b.id) AS stays FROM b
SELECT id, (SELECT MAX(s.nights) FROM s WHERE s.bid = b.id AND s.nights > b.n) AS m FROM b
SELECT id FROM b WHERE n > (SELECT AVG(x.n) FROM b AS x WHERE x.pier = b.pier)
SELECT id, (SELECT COALESCE(SUM(x.n), 0) + COUNT(*) * b.id FROM b AS x WHERE x.pier = b.pier AND x.id <> b.id) AS v FROM b
SELECT id, (SELECT x.id FROM b AS x WHERE x.pier = b.pier ORDER BY x.fee DESC NULLS LAST, x.id LIMIT 1) AS v FROM b
SELECT id, (SELECT x.id FROM b AS x WHERE x.pier = b.pier AND x.day < b.day ORDER BY 1 DESC LIMIT 1) AS v FROM b
SELECT id, (SELECT o.town FROM o WHERE o.oid = b.owner) AS town FROM b
SELECT id, (SELECT COUNT(*) FROM b AS x WHERE x.id < b.id) AS before FROM b
SELECT id, (SELECT COUNT(DISTINCT x.pier) FROM b AS x WHERE x.n = b.n AND x.fee IS NOT NULL) AS v FROM b
SELECT pier, SUM((SELECT COUNT(*) FROM s WHERE s.bid = b.id)) AS v FROM b GROUP BY pier
SELECT id FROM b WHERE EXISTS (SELECT 1 FROM s WHERE s.bid = b.id AND s.nights = (SELECT MAX(x.nights) FROM s AS x WHERE x.bid = s.bid))
SELECT b.id, z.sid FROM b CROSS JOIN LATERAL (SELECT s.sid FROM s WHERE s.bid = b.id ORDER BY s.nights DESC NULLS LAST, s.sid LIMIT 1) AS z
SELECT b.id, z.c, z.m FROM b LEFT JOIN LATERAL (SELECT COUNT(*) AS c, MAX(s.nights) + b.id AS m FROM s WHERE s.bid = b.id) AS z ON TRUE
SELECT b.id, z.sid FROM b LEFT JOIN LATERAL (SELECT s.sid FROM s WHERE s.bid = b.id AND s.nights < b.n) AS z ON TRUE
SELECT id, (SELECT MAX(nights) FROM s) FROM b
SELECT id, (SELECT SUM(s.nights) FROM s WHERE s.bid = b.id) FROM b WHERE n IS NOT NULL
SELECT id FROM b WHERE fee > (SELECT AVG(fee) FROM b)
SELECT id FROM b x WHERE fee >= (SELECT MAX(fee) FROM b y WHERE y.pier = x.pier)
SELECT id FROM b WHERE n = (SELECT MAX(n) FROM b)
SELECT id FROM b WHERE (id, n) IN (SELECT bid, nights FROM s)
SELECT id FROM b WHERE (id, n) NOT IN (SELECT bid, nights FROM s WHERE bid IS NOT NULL AND nights IS NOT NULL)
SELECT id FROM b WHERE (id, n) NOT IN (SELECT bid, nights FROM s)
SELECT id FROM b WHERE id IN (SELECT bid FROM s WHERE s.nights > b.n)
SELECT (SELECT town FROM o WHERE oid = b.owner), COUNT(*) FROM b GROUP BY 1
SELECT id, CASE WHEN EXISTS (SELECT 1 FROM s WHERE s.bid = b.id) THEN 'seen' ELSE 'new' END FROM b
SELECT id, (SELECT name FROM o WHERE oid = 99) FROM b
SELECT pier, COUNT(*) FROM b WHERE owner IN (SELECT oid FROM o) GROUP BY pier HAVING COUNT(*) >= (SELECT 1)
-- WITH
WITH q AS (SELECT id, n FROM b WHERE n > 1) SELECT * FROM q
WITH q AS (SELECT pier, COUNT(*) AS c FROM b GROUP BY pier) SELECT b.id, q.c FROM b JOIN q ON b.pier = q.pier
WITH q AS (SELECT 1 AS a), r AS (SELECT a + 1 AS a FROM q) SELECT q.a, r.a FROM q, r
WITH q(x, y) AS (SELECT id, n FROM b) SELECT x FROM q WHERE y = 2
WITH q AS (SELECT id FROM b) SELECT COUNT(*) FROM q x JOIN q y ON x.id < y.id
-- set operations
SELECT pier FROM b UNION SELECT berth FROM s
SELECT pier FROM b UNION ALL SELECT berth FROM s
SELECT pier FROM b INTERSECT SELECT berth FROM s
SELECT pier FROM b INTERSECT ALL SELECT berth FROM s
SELECT pier FROM b EXCEPT SELECT berth FROM s
SELECT pier FROM b EXCEPT ALL SELECT berth FROM s
SELECT n FROM b EXCEPT ALL SELECT nights FROM s
SELECT n FROM b UNION SELECT fee FROM b
SELECT 1 UNION SELECT 2 UNION ALL SELECT 1
SELECT 1 UNION ALL SELECT 1 INTERSECT SELECT 2
SELECT id FROM b WHERE n > 2 UNION SELECT bid FROM s ORDER BY 1 LIMIT 5
SELECT n AS x FROM b UNION ALL SELECT nights FROM s ORDER BY x DESC NULLS LAST
SELECT id, name FROM b EXCEPT (SELECT id, name FROM b ORDER BY id LIMIT 3)
SELECT NULL AS a UNION SELECT 1
VALUES (1), (2) EXCEPT VALUES (2)
SELECT COUNT(*) FROM (SELECT pier FROM b UNION SELECT berth FROM s) AS q
