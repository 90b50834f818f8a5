from django.urls import path

from pinecart.service.runs import api

urlpatterns = [
    path("runs", api.Runs.as_view(), name="runs"),
    path("runs/<int:number>", api.RunView.as_view(), name="run"),
    path("runs/<int:number>/definition", api.RunDefinition.as_view(), name="run-definition"),
    path("runs/<int:number>/objects", api.RunObjects.as_view(), name="run-objects"),
    path("runs/<int:number>/log", api.RunLogView.as_view(), name="run-log"),
    path("runs/<int:number>/report", api.RunReport.as_view(), name="run-report"),
    path("runs/<int:number>/proof", api.RunProof.as_view(), name="run-proof"),
    path("runs/<int:number>/compare", api.RunCompare.as_view(), name="run-compare"),
    path("runs/<int:number>/log/file", api.RunLogFile.as_view(), name="run-log-file"),
    path("report-schema", api.ReportSchema.as_view(), name="report-schema"),
    path("proof-key", api.ProofKey.as_view(), name="proof-key"),
    path("runs/<int:number>/stop", api.RunStop.as_view(), name="run-stop"),
    *[
        path(f"runs/<int:number>/{word}", view.as_view(), name=f"run-{word}")
        for word, view in (
            ("pause", api.RunPause),
            ("limit", api.RunLimit),
            ("resume", api.RunResume),
            ("retry", api.RunRetry),
            ("release", api.RunRelease),
            ("decline", api.RunDecline),
            ("undo", api.RunUndo),
        )
    ],
    path("runs/<int:number>/events", api.RunEvents.as_view(), name="run-events"),
    path("stores/<slug:name>/go-on", api.StoreGoOn.as_view(), name="store-go-on"),
    path("find", api.Find.as_view(), name="find"),
    path("audits", api.Audits.as_view(), name="audits"),
    path("audits/<int:number>", api.AuditView.as_view(), name="audit"),
    path("audits/<int:number>/findings", api.AuditFindings.as_view(), name="audit-findings"),
    path("previews/<int:number>", api.PreviewView.as_view(), name="preview"),
    path("previews/<int:number>/folders", api.PreviewFolders.as_view(), name="preview-folders"),
    path("previews/<int:number>/objects", api.PreviewObjects.as_view(), name="preview-objects"),
]
