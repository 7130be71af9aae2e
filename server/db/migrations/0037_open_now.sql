CREATE TABLE `open_now` (
	`worker_id` bigint NOT NULL,
	`file_id` bigint NOT NULL,
	`program` varchar(60) NOT NULL,
	CONSTRAINT `open_now_worker_id_file_id_pk` PRIMARY KEY(`worker_id`,`file_id`)
);
--> statement-breakpoint
CREATE INDEX `open_now_file` ON `open_now` (`file_id`);