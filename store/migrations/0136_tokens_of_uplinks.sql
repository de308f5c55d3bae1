UPDATE tokens SET uplink_id = host_id WHERE uplink_id IS NULL AND host_id IS NOT NULL
