ALTER TABLE `documents` ADD `notes` json;--> statement-breakpoint
ALTER TABLE `media` ADD `stills` json;--> statement-breakpoint
UPDATE `documents` d JOIN `files` f ON f.`id` = d.`file_id` SET d.`read_modified_us` = 0 WHERE f.`gone_at` IS NULL;
