ALTER TABLE `copy_files` ADD `position` bigint;--> statement-breakpoint
ALTER TABLE `carriers` ADD `facts` json;