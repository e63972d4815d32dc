"""The six additions as a good engineer writes them in SQL with DuckDB: python duckdb_pipeline.py SOURCE TARGET FOLDER"""

from __future__ import annotations

import sys
from pathlib import Path

import duckdb


def main(source: Path, target: Path, folder: Path) -> None:
    read = (
        f"read_parquet('{source}')"
        if source.suffix == ".parquet"
        else f"read_csv('{source}', types = {{station: 'VARCHAR', ph: 'DOUBLE', oxygen: 'DOUBLE', nitrate: 'DOUBLE', flow: 'DOUBLE', method: 'VARCHAR'}})"
    )
    form = "(FORMAT parquet, COMPRESSION snappy)" if target.suffix == ".parquet" else "(HEADER)"
    duckdb.sql(f"""
        COPY (
            SELECT s.*,
                CASE WHEN ph < 5.5 THEN 'acid' WHEN ph < 6.5 THEN 'slightly acid' WHEN ph < 7.5 THEN 'neutral'
                     WHEN ph < 8.5 THEN 'slightly alkaline' WHEN ph <= 14 THEN 'alkaline' END AS ph_class,
                m.method_group,
                CASE WHEN nitrate < 10 AND oxygen >= 8 THEN 'good'
                     WHEN nitrate < 25 AND oxygen >= 6 AND ph >= 6 THEN 'fair'
                     WHEN nitrate >= 50 AND oxygen < 4 THEN 'bad'
                     ELSE 'poor' END AS quality,
                flow * nitrate * 86.4 AS load,
                t.river, t.region, t.altitude,
                flow * nitrate * 86.4 / SUM(flow * nitrate * 86.4) OVER (PARTITION BY s.station) AS load_share
            FROM {read} AS s
            LEFT JOIN read_csv('{folder}/method.csv', all_varchar = true) AS m ON m.method = s.method
            LEFT JOIN read_csv('{folder}/station.csv', types = {{station: 'VARCHAR'}}) AS t
                ON t.station = s.station AND t.year = s.year
            ORDER BY sample
        ) TO '{target}' {form}
    """)


if __name__ == "__main__":
    main(*map(Path, sys.argv[1:]))
