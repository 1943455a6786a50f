import { type Kysely, sql } from 'kysely'

const statements = [
  // Folders of tags that are laid down again are patterns everywhere: templates are texts with placeholders.
  `alter table tag_template rename to tag_pattern`,
  `alter table tag_pattern rename constraint tag_template_name to tag_pattern_name`,
]

export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of statements) await sql.raw(statement).execute(db)
}
