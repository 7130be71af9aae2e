CREATE TABLE `snapshot_contents` (
	`snapshot_id` bigint NOT NULL,
	`contents` json NOT NULL,
	CONSTRAINT `snapshot_contents_snapshot_id` PRIMARY KEY(`snapshot_id`)
);
