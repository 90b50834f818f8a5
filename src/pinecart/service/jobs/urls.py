from django.urls import path

from pinecart.service.jobs import api

urlpatterns = [
    path("jobs", api.Jobs.as_view(), name="jobs"),
    path("job-forms/check", api.JobsCheck.as_view(), name="jobs-check"),
    path("jobs/<slug:name>", api.JobView.as_view(), name="job"),
    path("jobs/<slug:name>/start", api.JobStart.as_view(), name="job-start"),
    path("jobs/<slug:name>/preview", api.JobPreview.as_view(), name="job-preview"),
    path("jobs/<slug:name>/audit", api.JobAudit.as_view(), name="job-audit"),
    path("schedule", api.ScheduleView.as_view(), name="schedule"),
]
