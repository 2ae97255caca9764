-- Look-ups by key of the demo's parcels: wrk -t1 -c8 -d8s -s bench/http/look-ups.lua http://127.0.0.1:7171
local n=0
request=function() n=(n+37)%4000; return wrk.format("GET","/api/v1/views/parcel_now/rows/"..(812000+n)) end
