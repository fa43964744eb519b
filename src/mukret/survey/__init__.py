"""Structure and looks of documents: every path, what stands there, how often, and what it looks
like.
"""

from mukret.survey.read import survey
from mukret.survey.report import PlaceReport, RecordList, Surprise, SurveyReport

__all__ = ["PlaceReport", "RecordList", "Surprise", "SurveyReport", "survey"]
