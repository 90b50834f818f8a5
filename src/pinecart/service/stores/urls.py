from django.urls import path

from pinecart.service.stores import api, files_api

urlpatterns = [
    path("stores", api.Stores.as_view(), name="stores"),
    path("store-forms/find", api.StoresAt.as_view(), name="stores-at"),
    path("store-forms/read", api.StoresPasted.as_view(), name="stores-pasted"),
    path("store-forms/try", api.StoresTry.as_view(), name="stores-try"),
    path("stores/<slug:name>", api.StoreView.as_view(), name="store"),
    path("stores/<slug:name>/try", api.StoreTry.as_view(), name="store-try"),
    path("stores/<slug:name>/buckets", api.StoreBuckets.as_view(), name="store-buckets"),
    path("stores/<slug:name>/buckets/<str:bucket>", api.StoreBucket.as_view(), name="store-bucket"),
    path("stores/<slug:name>/versions", files_api.StoreVersions.as_view(), name="store-versions"),
    path("stores/<slug:name>/head", files_api.StoreHead.as_view(), name="store-head"),
    path("sides", files_api.Sides.as_view(), name="sides"),
    path("stores/<slug:name>/files", files_api.StoreFiles.as_view(), name="store-files"),
    path("stores/<slug:name>/archive", files_api.StoreArchive.as_view(), name="store-archive"),
    path("stores/<slug:name>/save", files_api.StoreSave.as_view(), name="store-save"),
    path("stores/<slug:name>/browse", files_api.StoreBrowse.as_view(), name="store-browse"),
]
