using System;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;
using NodaTime;
using Npgsql.EntityFrameworkCore.PostgreSQL.Metadata;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(ImbrekContext))]
    [Migration("20261123191503_Plans")]
    public class Plans : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<int>(
                name: "lead",
                table: "worlds",
                type: "integer",
                nullable: false,
                defaultValue: 0);

            migrationBuilder.CreateTable(
                name: "notices",
                columns: table => new
                {
                    id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    first_at = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    last_at = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    group_key = table.Column<string>(type: "text", nullable: false),
                    kind = table.Column<string>(type: "text", nullable: false),
                    people = table.Column<string[]>(type: "text[]", nullable: false),
                    subject = table.Column<string>(type: "text", nullable: false),
                    count = table.Column<int>(type: "integer", nullable: false),
                    databases = table.Column<string[]>(type: "text[]", nullable: false),
                    sent_count = table.Column<int>(type: "integer", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_notices", x => x.id);
                });

            migrationBuilder.CreateTable(
                name: "pauses",
                columns: table => new
                {
                    id = table.Column<int>(type: "integer", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    from = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    to = table.Column<Instant>(type: "timestamp with time zone", nullable: true),
                    plan = table.Column<string>(type: "text", nullable: true),
                    database = table.Column<string>(type: "text", nullable: true),
                    host = table.Column<string>(type: "text", nullable: true),
                    store = table.Column<string>(type: "text", nullable: true),
                    reason = table.Column<string>(type: "text", nullable: false),
                    who = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_pauses", x => x.id);
                });

            migrationBuilder.CreateTable(
                name: "plan_versions",
                columns: table => new
                {
                    plan = table.Column<string>(type: "text", nullable: false),
                    number = table.Column<int>(type: "integer", nullable: false),
                    at = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    who = table.Column<string>(type: "text", nullable: false),
                    removed = table.Column<bool>(type: "boolean", nullable: false),
                    document = table.Column<string>(type: "jsonb", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_plan_versions", x => new { x.plan, x.number });
                });

            migrationBuilder.CreateTable(
                name: "task_run_lines",
                columns: table => new
                {
                    id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    run_id = table.Column<Guid>(type: "uuid", nullable: false),
                    at = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    text = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_task_run_lines", x => x.id);
                });

            migrationBuilder.CreateTable(
                name: "task_runs",
                columns: table => new
                {
                    id = table.Column<Guid>(type: "uuid", nullable: false),
                    plan = table.Column<string>(type: "text", nullable: false),
                    task = table.Column<string>(type: "text", nullable: false),
                    kind = table.Column<short>(type: "smallint", nullable: false),
                    database = table.Column<string>(type: "text", nullable: false),
                    due = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    state = table.Column<short>(type: "smallint", nullable: false),
                    started = table.Column<Instant>(type: "timestamp with time zone", nullable: true),
                    ended = table.Column<Instant>(type: "timestamp with time zone", nullable: true),
                    attempts = table.Column<int>(type: "integer", nullable: false),
                    data_bytes = table.Column<long>(type: "bigint", nullable: false),
                    stored_bytes = table.Column<long>(type: "bigint", nullable: false),
                    expected_seconds = table.Column<double>(type: "double precision", nullable: false),
                    set_id = table.Column<string>(type: "text", nullable: true),
                    note = table.Column<string>(type: "text", nullable: true),
                    oddity = table.Column<string>(type: "text", nullable: true),
                    after_id = table.Column<Guid>(type: "uuid", nullable: true),
                    asked_by = table.Column<string>(type: "text", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_task_runs", x => x.id);
                });

            migrationBuilder.CreateIndex(
                name: "ix_notices_group_key_last_at",
                table: "notices",
                columns: new[] { "group_key", "last_at" });

            migrationBuilder.CreateIndex(
                name: "ix_task_run_lines_run_id",
                table: "task_run_lines",
                column: "run_id");

            migrationBuilder.CreateIndex(
                name: "ix_task_runs_database_due",
                table: "task_runs",
                columns: new[] { "database", "due" });

            migrationBuilder.CreateIndex(
                name: "ix_task_runs_due_id",
                table: "task_runs",
                columns: new[] { "due", "id" });

            migrationBuilder.CreateIndex(
                name: "ix_task_runs_occurrence",
                table: "task_runs",
                columns: new[] { "plan", "task", "database", "due", "after_id", "asked_by" },
                unique: true)
                .Annotation("Npgsql:NullsDistinct", false);

            migrationBuilder.CreateIndex(
                name: "ix_task_runs_state_due",
                table: "task_runs",
                columns: new[] { "state", "due" });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "notices");

            migrationBuilder.DropTable(
                name: "pauses");

            migrationBuilder.DropTable(
                name: "plan_versions");

            migrationBuilder.DropTable(
                name: "task_run_lines");

            migrationBuilder.DropTable(
                name: "task_runs");

            migrationBuilder.DropColumn(
                name: "lead",
                table: "worlds");
        }
    }
}
