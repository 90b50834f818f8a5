from django.urls import path

from pinecart.service.jobs import api, calendar_api, files_api

urlpatterns = [
    path("jobs", api.Jobs.as_view(), name="jobs"),
    path("job-forms/check", api.JobsCheck.as_view(), name="jobs-check"),
    path("job-forms/count", api.JobsCount.as_view(), name="jobs-count"),
    path("job-forms/look", api.JobsLook.as_view(), name="jobs-look"),
    path("jobs/<slug:name>", api.JobView.as_view(), name="job"),
    path("jobs/<slug:name>/versions", api.JobVersions.as_view(), name="job-versions"),
    path("jobs/<slug:name>/back", api.JobBack.as_view(), name="job-back"),
    path("jobs/<slug:name>/switch", api.JobSwitch.as_view(), name="job-switch"),
    path("jobs/<slug:name>/copy", api.JobCopy.as_view(), name="job-copy"),
    path("jobs/<slug:name>/explain", api.JobExplain.as_view(), name="job-explain"),
    path("jobs/<slug:name>/start", api.JobStart.as_view(), name="job-start"),
    path("jobs/<slug:name>/call", api.JobCall.as_view(), name="job-call"),
    path("jobs/<slug:name>/preview", api.JobPreview.as_view(), name="job-preview"),
    path("jobs/<slug:name>/audit", api.JobAudit.as_view(), name="job-audit"),
    path("audits/<int:number>/repair", api.AuditRepair.as_view(), name="audit-repair"),
    path("previews/<int:number>/start", api.PreviewStart.as_view(), name="preview-start"),
    path("job-files", files_api.JobFiles.as_view(), name="job-files"),
    path("job-schema", files_api.JobSchema.as_view(), name="job-schema"),
    path("schedule", api.ScheduleView.as_view(), name="schedule"),
    path("schedule/calendar", calendar_api.CalendarView.as_view(), name="schedule-calendar"),
]
