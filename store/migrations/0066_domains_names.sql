UPDATE domains d JOIN zones z ON z.id = d.zone_id SET d.name_key = z.name_key
