"""Jobs, their route, the append-only logbook, the dossier folder and the customer's report.

The store of jobs is taken from `store`: what brings a database along is only loaded where one is opened.
"""

from neogenesis.core.job.improvement import Improvement, improvement_of
from neogenesis.core.job.model import Glance, Job, LogEntry, Which, first_broken
from neogenesis.core.job.report import CopyRecords, Report, make_report, report_from_records
from neogenesis.core.job.route import ROUTE, Stop, stop_titled
from neogenesis.core.job.shop import Shop, load_shop, save_shop
from neogenesis.core.job.slip import make_slip

__all__ = [
    "ROUTE",
    "CopyRecords",
    "Glance",
    "Improvement",
    "Job",
    "LogEntry",
    "Report",
    "Shop",
    "Stop",
    "Which",
    "first_broken",
    "improvement_of",
    "load_shop",
    "make_report",
    "make_slip",
    "report_from_records",
    "save_shop",
    "stop_titled",
]
