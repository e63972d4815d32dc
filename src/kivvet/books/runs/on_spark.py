"""Parts of a dataset worked on by Spark: it says where and when, and tries again; what is done is done by Kivvet.

Workers read, classify and write the files themselves; nothing of the data passes through Spark.
"""

from __future__ import annotations

import os
import pickle
import sys
import tempfile
import warnings
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import xxhash

from kivvet.core.words.errors import BookError, KivvetError, OutputError

if TYPE_CHECKING:
    from pyspark.sql import SparkSession

_QUIET = """rootLogger.level = error
rootLogger.appenderRef.stderr.ref = console
appender.console.type = Console
appender.console.name = console
appender.console.target = SYSTEM_ERR
appender.console.layout.type = PatternLayout
appender.console.layout.pattern = %p %c{1}: %m%n
logger.gateway.name = org.apache.spark.api.python.PythonGatewayServer
logger.gateway.level = error
logger.executor.name = org.apache.spark.executor.Executor
logger.executor.level = off
logger.tasks.name = org.apache.spark.scheduler.TaskSetManager
logger.tasks.level = off
"""
#: What says in a failure which of the known causes it has, and what is to be done.
_CAUSES = (
    (
        "JAVA_GATEWAY_EXITED",
        "there is no Java, or it does not start",
        "install a Java of 17 or later: apt-get install openjdk-17-jre-headless",
    ),
    (
        "JAVA_HOME",
        "there is no Java, or it does not start",
        "install a Java of 17 or later: apt-get install openjdk-17-jre-headless",
    ),
    (
        "PYTHON_VERSION_MISMATCH",
        "workers have another Python than this process",
        "set PYSPARK_PYTHON to the same Python everywhere",
    ),
    (
        "No module named 'kivvet'",
        "workers have no Kivvet",
        "install the same version of it where workers run",
    ),
)
_KEPT: dict[str, Any] = {}  # in a worker, what was sent once


def on_spark(work: Callable[[Any, Any], Any], shared: object, jobs: Sequence[Any]) -> Iterator[Any]:
    """Do work on jobs by the tasks of Spark; yield what they came to, in any order.

    Raises
    ------
    BookError
        If Spark cannot be started.
    OutputError
        If a task failed as often as it may.
    """
    context = spark_session().sparkContext
    sent = pickle.dumps(shared)
    broadcast = context.broadcast(sent)
    try:
        tasks = context.parallelize([pickle.dumps(job) for job in jobs], max(1, len(jobs)))
        with told("a task failed"):
            made = tasks.map(partial(_work, work, broadcast, xxhash.xxh3_128_hexdigest(sent))).collect()
    finally:
        broadcast.unpersist()
    for one in made:
        yield pickle.loads(one)


def _work(work: Callable[[Any, Any], Any], broadcast: Any, name: str, job: bytes) -> bytes:
    """Do one job, in a worker; what is shared is unpacked once in each."""
    if name not in _KEPT:
        _KEPT.clear()
        _KEPT[name] = pickle.loads(broadcast.value)
    return pickle.dumps(work(_KEPT[name], pickle.loads(job)))


def spark_session() -> SparkSession:
    """Return the session that is there, or a quiet one: on this machine, unless Spark's own settings name another master.

    Raises
    ------
    BookError
        If PySpark is not installed, or there is no Java.
    """
    try:
        from pyspark.sql import SparkSession
    except ImportError as error:
        raise BookError("Spark is not installed", fix='pip install "kivvet[spark]"') from error
    there: SparkSession | None = SparkSession.getActiveSession()
    if there is not None:
        return there
    with told("Spark cannot be started", BookError):
        return _started()


def _started() -> SparkSession:
    from pyspark import SparkConf, SparkContext
    from pyspark.java_gateway import launch_gateway
    from pyspark.sql import SparkSession

    warnings.filterwarnings(
        "ignore", message="PySpark does not yet fully support pandas", category=FutureWarning
    )
    folder = Path(tempfile.mkdtemp(prefix="kivvet-spark-"))
    log = folder / "log4j2.properties"
    log.write_text(_QUIET, encoding="utf-8")
    os.environ.setdefault("PYSPARK_PYTHON", sys.executable)
    os.environ.setdefault("PYSPARK_DRIVER_PYTHON", sys.executable)
    settings = SparkConf().setAppName("kivvet")
    if not settings.contains("spark.master") and "MASTER" not in os.environ:
        os.environ.setdefault("SPARK_LOCAL_IP", "127.0.0.1")
        os.environ.setdefault("SPARK_LOCAL_HOSTNAME", "localhost")
        settings.setMaster("local[*,3]")  # a task may fail twice
        settings.set("spark.driver.host", "127.0.0.1").set("spark.driver.bindAddress", "127.0.0.1")
        jvm = "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC -Xshare:auto"
        settings.set(
            "spark.driver.extraJavaOptions",
            f"-Dlog4j2.configurationFile=file:{log} -Djava.io.tmpdir={folder} {jvm}",
        )
        settings.set("spark.local.dir", str(folder / "local"))
    for name, value in {
        "spark.ui.enabled": "false",
        "spark.ui.showConsoleProgress": "false",
        "spark.sql.warehouse.dir": (folder / "warehouse").as_uri(),
        "spark.sql.catalogImplementation": "in-memory",
        "spark.sql.session.timeZone": "UTC",
        "spark.sql.shuffle.partitions": "4",
        "spark.sql.execution.arrow.maxRecordsPerBatch": "65536",
        "spark.eventLog.enabled": "false",
    }.items():
        settings.setIfMissing(name, value)
    if SparkContext._gateway is None:
        with (folder / "jvm.log").open("ab") as errors:
            gateway = launch_gateway(conf=settings, popen_kwargs={"stderr": errors})
            SparkContext._ensure_initialized(gateway=gateway, conf=settings)
    return SparkSession.builder.config(conf=settings).getOrCreate()


@contextmanager
def told(what: str, kind: type[KivvetError] = OutputError) -> Iterator[None]:
    """Turn what Spark raises into an error of ours, with the cause where it is known."""
    try:
        yield
    except KivvetError:
        raise
    except Exception as error:  # whatever Spark and its Java make of it
        text = str(error)
        for sign, cause, fix in _CAUSES:
            if sign in text:
                raise kind(f"{what}: {cause}", fix=fix) from error
        last = [line.strip() for line in text.splitlines() if _names_error(line)]
        raise kind(
            f"{what}: {last[-1] if last else text.splitlines()[0] if text else type(error).__name__}"[:400],
            fix="nothing was written",
        ) from error


def _names_error(line: str) -> bool:
    """Whether a line of a failure names what was raised in a worker."""
    head = line.strip().split(":", 1)[0]
    return (
        head.endswith(("Error", "Exception"))
        and " " not in head
        and not head.startswith(("org.", "java.", "py4j."))
    )
