ALTER TABLE `steps` ADD `freed_bytes` bigint DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE `steps` ADD `linked_bytes` bigint DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE `steps` ADD `free_before` json;