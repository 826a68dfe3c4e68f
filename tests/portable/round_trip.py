"""Computes probabilities from PMML, ONNX and SQL with evaluators that know nothing of Pronoia.

    round_trip.py FOLDER

FOLDER holds customers.parquet, and for every model NAME the files NAME.pmml, NAME.onnx, NAME.sql-duckdb.sql,
NAME.sql-spark.sql and NAME.probabilities with one probability per line. Prints for every file the greatest
difference. What is not installed is said, and passed over.
"""
import pathlib
import sys

import numpy as np
import pyarrow.parquet as parquet


def onnx(path, table):
    import onnxruntime

    session = onnxruntime.InferenceSession(str(path), providers=["CPUExecutionProvider"])
    given = {}
    for wanted in session.get_inputs():
        column = table[wanted.name]
        if wanted.type == "tensor(string)":
            values = np.array([value or "" for value in column.to_pylist()], dtype=object)
        elif str(column.type).startswith("date"):
            values = column.cast("int32").to_pandas().to_numpy(dtype=np.float64)
        else:
            values = column.to_pandas().to_numpy(dtype=np.float64)
        given[wanted.name] = values.reshape(-1, 1)
    return session.run(["pronoia_probability"], given)[0].reshape(-1)


def duckdb(path, folder):
    import duckdb as database

    connection = database.connect()
    connection.execute(f"CREATE TABLE customers AS SELECT * FROM '{folder / 'customers.parquet'}'")
    return column_of(connection.execute(path.read_text()).to_arrow_table())


def column_of(result):
    if result.column_names[-1] != "pronoia_probability" or any(n.startswith("pronoia_") for n in result.column_names[:-1]):
        raise SystemExit(f"the columns are {result.column_names}")
    ordered = result.sort_by("row_number")
    return ordered["pronoia_probability"].to_numpy()


def spark(path, folder, kept={}):
    from pyspark.sql import SparkSession

    if "session" not in kept:
        kept["session"] = SparkSession.builder.master("local[2]").config("spark.ui.enabled", False).config(
            "spark.driver.memory", "3g").getOrCreate()
        kept["session"].sparkContext.setLogLevel("ERROR")
    session = kept["session"]
    session.read.parquet(str(folder / "customers.parquet")).repartition(7).createOrReplaceTempView("customers")
    rows = session.sql(path.read_text().rstrip().rstrip(";")).select("row_number", "pronoia_probability").collect()
    return np.array([row[1] for row in sorted(rows)], dtype=np.float64)


def pmml(path, table, kept={}):
    from jpmml_evaluator import make_evaluator

    evaluator = make_evaluator(str(path), backend=kept.setdefault("backend", backend()))
    evaluator.verify()
    names = [field.getName() for field in evaluator.getInputFields()]
    frame = table.select(names).to_pandas()
    for name in names:
        if str(table[name].type).startswith("date"):
            frame[name] = [None if value is None else str(value) for value in table[name].to_pylist()]
    frame = frame.astype(object).where(frame.notna(), None)
    found = []
    for row in frame.to_dict("records"):
        found.append(evaluator.evaluate(row)["pronoia_probability"])
    return np.array(found, dtype=np.float64)


def backend():
    import atexit

    from jpmml_evaluator.py4j import Py4JBackend

    started = Py4JBackend()
    atexit.register(Py4JBackend.destroyGateway)
    return started


def main():
    folder = pathlib.Path(sys.argv[1])
    table = parquet.read_table(folder / "customers.parquet")
    only = sys.argv[2:] or ["onnx", "pmml", "duckdb", "spark"]
    for expected_path in sorted(folder.glob("*.probabilities")):
        name = expected_path.stem
        expected = np.array([float(line) for line in expected_path.read_text().split()])
        for form, path, compute in [
            ("onnx", folder / f"{name}.onnx", lambda p: onnx(p, table)),
            ("pmml", folder / f"{name}.pmml", lambda p: pmml(p, table)),
            ("duckdb", folder / f"{name}.sql-duckdb.sql", lambda p: duckdb(p, folder)),
            ("spark", folder / f"{name}.sql-spark.sql", lambda p: spark(p, folder)),
        ]:
            if form in only and path.exists():
                found = compute(path)
                difference = np.abs(found - expected).max() if found.shape == expected.shape else np.inf
                print(f"{name} {form} {difference:.3e}", flush=True)


main()
