ALTER TABLE `projects` MODIFY COLUMN `origin` enum('documents','folder','template','carrier') NOT NULL DEFAULT 'documents';--> statement-breakpoint
ALTER TABLE `copy_parts` ADD `packer` varchar(40);--> statement-breakpoint
ALTER TABLE `copy_parts` ADD `folder` varchar(4096);