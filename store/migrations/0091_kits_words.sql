UPDATE kits SET body = REPLACE(REPLACE(REPLACE(REPLACE(body, '"About":', '"Description":'), '"Needs":', '"Parameters":'), '"Least":', '"Min":'), '"Most":', '"Max":')
