using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(ImbrekContext))]
    [Migration("20261123205415_AskedRuns")]
    public class AskedRuns : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AlterDatabase()
                .Annotation("Npgsql:PostgresExtension:pg_trgm", ",,");

            migrationBuilder.AddColumn<string>(
                name: "cancelled_by",
                table: "task_runs",
                type: "text",
                nullable: true);

            migrationBuilder.AddColumn<bool>(
                name: "outside_chain",
                table: "task_runs",
                type: "boolean",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<string>(
                name: "search",
                table: "task_runs",
                type: "text",
                nullable: false,
                computedColumnSql: "lower(database || ' ' || task || ' ' || coalesce(set_id, '') || ' ' || coalesce(note, ''))",
                stored: true);

            migrationBuilder.CreateIndex(
                name: "ix_task_runs_asked",
                table: "task_runs",
                column: "id",
                filter: "state = 0 and asked_by is not null or state <= 1 and cancelled_by is not null");

            migrationBuilder.CreateIndex(
                name: "ix_task_runs_search",
                table: "task_runs",
                column: "search")
                .Annotation("Npgsql:IndexMethod", "gin")
                .Annotation("Npgsql:IndexOperators", new[] { "gin_trgm_ops" });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "ix_task_runs_asked",
                table: "task_runs");

            migrationBuilder.DropIndex(
                name: "ix_task_runs_search",
                table: "task_runs");

            migrationBuilder.DropColumn(
                name: "search",
                table: "task_runs");

            migrationBuilder.DropColumn(
                name: "cancelled_by",
                table: "task_runs");

            migrationBuilder.DropColumn(
                name: "outside_chain",
                table: "task_runs");

            migrationBuilder.AlterDatabase()
                .OldAnnotation("Npgsql:PostgresExtension:pg_trgm", ",,");
        }
    }
}
