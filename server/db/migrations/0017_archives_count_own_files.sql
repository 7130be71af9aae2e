UPDATE `archives` a SET a.`files` = (SELECT COUNT(*) FROM `archive_files` f WHERE f.`archive_id` = a.`id` AND f.`role` <> 'document') WHERE a.`state` = 'sealed';
