-- What the lab works out every night, since 2019.
SELECT s.sample_id,
       CASE WHEN s.nitrate < 10 THEN 'low'
            WHEN s.nitrate < 25 THEN 'moderate'
            WHEN s.nitrate BETWEEN 25 AND 49.9 THEN 'high'
            WHEN s.nitrate > 50 THEN 'very high'   /* and 50 itself? */
       END AS lab_band,
       CASE WHEN s.oxygen < 4 OR s.nitrate > 50 THEN 'poor'
            WHEN s.oxygen < 7 THEN CASE WHEN s.ph IS NULL THEN 'not known' ELSE 'watch' END
            WHEN s.flow * s.nitrate > 1000 AND s.method NOT IN ('KN', 'SS') THEN 'watch'
            ELSE 'good' END AS lab_quality,
       s.flow * s.nitrate * 86.4 AS lab_load
  FROM samples AS s
 WHERE s.sampled_on >= DATE '2023-10-01';
