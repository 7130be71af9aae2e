ALTER TABLE `media` ADD `lacks` boolean GENERATED ALWAYS AS (found < GREATEST(targets, 1)) STORED;--> statement-breakpoint
CREATE INDEX `media_lacks` ON `media` (`lacks`,`project_id`);