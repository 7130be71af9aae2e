ALTER TABLE `carriers` ADD `since` datetime(3);--> statement-breakpoint
ALTER TABLE `carriers` ADD `lent_to` varchar(120);--> statement-breakpoint
ALTER TABLE `carriers` ADD `lent_at` datetime(3);--> statement-breakpoint
ALTER TABLE `carriers` ADD `due_at` datetime(3);