ALTER TABLE `steps` ADD `begun_to` bigint DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE `steps` ADD `taken_to` bigint DEFAULT 0 NOT NULL;