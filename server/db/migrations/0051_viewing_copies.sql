CREATE TABLE `viewing_copies` (
	`file_id` bigint NOT NULL,
	`modified_us` bigint NOT NULL,
	`bytes` bigint NOT NULL,
	`trouble` varchar(300),
	`made_at` datetime(3) NOT NULL,
	CONSTRAINT `viewing_copies_file_id` PRIMARY KEY(`file_id`)
);
--> statement-breakpoint
CREATE TABLE `viewing_parts` (
	`file_id` bigint NOT NULL,
	`part` int NOT NULL,
	`content` mediumblob NOT NULL,
	CONSTRAINT `viewing_parts_file_id_part_pk` PRIMARY KEY(`file_id`,`part`)
);
