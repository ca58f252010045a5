import type { MigrationInterface, QueryRunner } from 'typeorm';

/**
 * Where each anchor began: the members that had a record of it. Of those that are there already, the present ties tell.
 */
export class AnchorBeginnings1764300100000 implements MigrationInterface {
  name = 'AnchorBeginnings1764300100000';

  async up(queryRunner: QueryRunner): Promise<void> {
    await queryRunner.query(`alter table anchor add column began_in text[] not null default '{}'`);
    await queryRunner.query(
      `update anchor set began_in = array(select member from tie where anchor_id = anchor.id order by member)`,
    );
  }

  async down(queryRunner: QueryRunner): Promise<void> {
    await queryRunner.query('alter table anchor drop column began_in');
  }
}
