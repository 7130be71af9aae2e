// Numbers of rows as parameters have them.
import { z } from 'zod';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '../model.ts';

const id = z.number().int().positive();
export const archiveId = id as unknown as z.ZodType<ArchiveId>;
export const carrierId = id as unknown as z.ZodType<CarrierId>;
export const projectId = id as unknown as z.ZodType<ProjectId>;
export const volumeId = id as unknown as z.ZodType<VolumeId>;
