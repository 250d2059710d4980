using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    public partial class FleetWhy : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "why",
                table: "fleet_versions",
                type: "text",
                nullable: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropColumn(
                name: "why",
                table: "fleet_versions");
        }
    }
}
