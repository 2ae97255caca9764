-- SQL by key over the demo's parcels: wrk -t1 -c8 -d8s -s bench/http/sql-by-key.lua http://127.0.0.1:7171
wrk.method="POST"; wrk.headers["Content-Type"]="application/json"
local n=0
request=function() n=(n+37)%4000; return wrk.format(nil,"/api/v1/sql",nil,'{"sql":"SELECT gate, at, scans FROM parcel_now WHERE parcel = :p","args":{"p":'..(812000+n)..'}}') end
