from django.urls import path

from pinecart.service.carries import api

urlpatterns = [
    path("carries", api.Carries.as_view(), name="carries"),
    path("carries/check", api.CarriesCheck.as_view(), name="carries-check"),
    path("audits/places", api.AuditOfPlaces.as_view(), name="audits-places"),
    path("inventories", api.Inventories.as_view(), name="inventories"),
    path("inventories/<int:number>", api.InventoryView.as_view(), name="inventory"),
    path("removals", api.Removals.as_view(), name="removals"),
    path("runs/<int:number>/keep", api.RunKeep.as_view(), name="run-keep"),
]
