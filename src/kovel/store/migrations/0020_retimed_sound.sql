-- The sound of retimed covers is made from now on; in stories that are there they stay as silent as they were.
UPDATE cover SET settings = json_set(settings, '$.heard', 'not heard')
WHERE json_extract(settings, '$.natural')
  AND (json_extract(settings, '$.span') OR json_extract(settings, '$.backwards') OR json_array_length(settings, '$.speed') > 0);
